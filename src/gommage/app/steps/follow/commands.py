"""The commands of the Follow step: running it, marking frames, correcting, spots, files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QFileDialog, QWidget

from gommage.app.desk import Desk
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import FrameRange, PointsFollow, Shot, Spot, Track, edits, new_id, placement
from gommage.core.engine import Priority
from gommage.core.follow import Direction, read_track, smoothed, spots_near, write_track
from gommage.errors import FollowError

__all__ = ["FollowCommands"]

TRACK_FILTER = "Follows (*.csv *.json);;All files (*)"
SMOOTHING_FRAMES = 2.0


class FollowCommands:
    """One method for each action of the table that belongs to following; the window holds the others."""

    def __init__(self, session: Session, work: Work, window: QWidget) -> None:
        self._session, self._work, self._window = session, work, window

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    @property
    def _shot(self) -> Shot | None:
        return self._desk.shot(self._session.project)

    def follow_forwards(self) -> None:
        """Follow to the end."""
        self._work.follow(Direction.FORWARDS)

    def follow_backwards(self) -> None:
        """Follow to the start."""
        self._work.follow(Direction.BACKWARDS)

    def follow_both(self) -> None:
        """Follow both ways."""
        self._work.follow(Direction.BOTH, self._desk.marked_frames)

    def follow_one_on(self) -> None:
        """Follow to the next frame."""
        self._follow_one(Direction.FORWARDS, 1)

    def follow_one_back(self) -> None:
        """Follow to the frame before."""
        self._follow_one(Direction.BACKWARDS, -1)

    def _follow_one(self, direction: Direction, step: int) -> None:
        shot = self._shot
        if shot is None or self._desk.frame + step not in shot.footage.frames:
            return
        first, last = sorted((self._desk.frame, self._desk.frame + step))
        self._work.follow(direction, FrameRange(first=first, last=last))

    def mark_from(self) -> None:
        """Let the marked frames begin here."""
        _, last = self._desk.marked or (0, self._desk.frame)
        self._session.set_desk(marked=(self._desk.frame, max(last, self._desk.frame)))

    def mark_to(self) -> None:
        """Let the marked frames end here."""
        first, _ = self._desk.marked or (self._desk.frame, 0)
        self._session.set_desk(marked=(min(first, self._desk.frame), self._desk.frame))

    def unmark(self) -> None:
        """Mark no frames."""
        self._session.set_desk(marked=None)

    def smooth_marked(self) -> None:
        """Smooth the motion over the marked frames."""
        surface, marked = self._desk.surface(self._session.project), self._desk.marked_frames
        if surface is None or surface.track is None or marked is None:
            self._session.error_shown.emit(
                "Mark the frames to smooth first: drag over them on the strip with Shift held."
            )
            return
        shot_id, track = self._desk.shot_id, surface.track
        label = f"Smooth {marked.first}–{marked.last}"

        def smooth(check: object) -> Track:
            try:
                return smoothed(track, surface, marked, SMOOTHING_FRAMES)
            except ValueError as error:
                raise FollowError(f"Nothing was smoothed: {error}.") from error

        self._session.submit(
            ("smooth", surface), Priority.SCREEN, smooth,
            lambda found: self._session.commit(label, edits.change_surface, shot_id, surface.id, track=found),
        )  # fmt: skip

    def trim_to_marked(self) -> None:
        """Keep what was followed on the marked frames only."""
        surface, marked = self._desk.surface(self._session.project), self._desk.marked_frames
        if surface is None or marked is None:
            self._session.error_shown.emit(
                "Mark the frames to keep first: drag over them on the strip with Shift held."
            )
            return
        label = f"Trim to {marked.first}–{marked.last}"
        self._session.commit(label, edits.trim_track, self._desk.shot_id, surface.id, marked)

    def unpin(self) -> None:
        """Take the correction on this frame off."""
        desk = self._desk
        self._session.commit(f"Unpin {desk.frame}", edits.remove_pin, desk.shot_id, desk.surface_id, desk.frame)

    def forget_own_points(self) -> None:
        """Let the pin tool move the surface's corners again."""
        self._session.set_desk(pin_points=())

    def find_spots(self) -> None:
        """Set spots that are easy to follow around those there are, beside the interface."""
        shot, surface = self._shot, self._desk.surface(self._session.project)
        if shot is None or surface is None or not isinstance(surface.how, PointsFollow):
            self._session.error_shown.emit(
                "Spots are found for a surface of points; begin one with New surface, Points."
            )
            return
        engine, home = self._session.engine, surface.home_frame

        def run(check: object) -> np.ndarray:
            return spots_near(engine.plate(shot.footage, home), surface)

        def found(places: np.ndarray) -> None:
            how = surface.how
            assert isinstance(how, PointsFollow)
            spots = (*how.spots, *(Spot(id=new_id(), x=float(x), y=float(y)) for x, y in places))
            self._session.commit("Find spots", edits.change_follow, shot.id, surface.id, spots=spots)
            self._session.note_shown.emit(f"{len(places)} spots found")

        self._session.submit(("spots", surface.id), Priority.NEIGHBOUR, run, found)

    def write_follow(self) -> None:
        """Write where the surface in hand is to a file."""
        shot, surface = self._shot, self._desk.surface(self._session.project)
        placed = placement(shot, surface) if shot is not None and surface is not None else None
        if shot is None or surface is None or placed is None:
            return
        chosen, _ = QFileDialog.getSaveFileName(self._window, "Write follow", f"{surface.name}.csv", TRACK_FILTER)
        if not chosen:
            return
        path, size = Path(chosen), (shot.footage.width, shot.footage.height)
        self._session.submit(
            ("write follow", chosen), Priority.SCREEN, lambda check: write_track(path, surface, placed, size),
            lambda _: self._session.note_shown.emit(f"{surface.name} written to {path.name}"),
        )  # fmt: skip

    def read_follow(self) -> None:
        """Give the surface in hand the track of a file."""
        shot, surface = self._shot, self._desk.surface(self._session.project)
        if shot is None or surface is None:
            return
        chosen, _ = QFileDialog.getOpenFileName(self._window, "Read follow", "", TRACK_FILTER)
        if not chosen:
            return
        path, label = Path(chosen), f"Read {Path(chosen).name}"
        self._session.submit(
            ("read follow", chosen), Priority.SCREEN, lambda check: read_track(path, surface, shot.footage.frames),
            lambda track: self._session.commit(label, edits.change_surface, shot.id, surface.id, track=track),
        )  # fmt: skip
