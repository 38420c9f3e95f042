"""The commands of the solved camera: solving it, planes of its scene, polishing, lenses as files."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QFileDialog, QWidget

from gommage.app.desk import Desk
from gommage.app.hands.names import free_name
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import ScenePlane, SolvedCamera, Surface, edits, new_id
from gommage.core.engine import (
    Priority,
    Solved,
    Step,
    laid_plane,
    picked_plane,
    polish_planes,
    solve_camera,
)
from gommage.core.follow.scene import read_lens, write_lens

__all__ = ["SceneCommands"]

LENS_FILTER = "Lenses (*.json);;All files (*)"
AWAY = 0.02
"""By how much of its distance a plane is moved by one press."""


class SceneCommands:
    """One method for each action of the table that belongs to the solved camera."""

    def __init__(self, session: Session, work: Work, window: QWidget) -> None:
        self._session, self._work, self._window = session, work, window

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    @property
    def _camera(self) -> SolvedCamera | None:
        shot = self._session.shot
        return shot.camera if shot is not None else None

    def _plane(self) -> Surface | None:
        """Return the scene plane in hand."""
        surface = self._desk.surface(self._session.project)
        return surface if surface is not None and isinstance(surface.how, ScenePlane) else None

    # -- solving ----------------------------------------------------------------------------------------------

    def solve_camera(self) -> None:
        """Solve the camera over the shot, or over the marked frames."""
        session, shot, marked, lens = self._session, self._session.shot, self._desk.marked_frames, self._desk.lens
        if shot is None:
            return

        def run(check: Any) -> Solved:
            return solve_camera(session.engine, shot, marked, lens, self._work.tell_later, check)

        def came(found: Solved) -> None:
            session.commit("Solve the camera", edits.set_camera, shot.id, found.camera, found.planes)
            session.set_desk(shows_points=True)
            session.note_shown.emit(f"The camera is solved: off by {found.camera.median_px:.2f} px.")

        self._work.run("Solving the camera", "solve", run, came)

    def forget_camera(self) -> None:
        """Take the solved camera off the shot."""
        self._session.commit("Forget the camera", edits.set_camera, self._desk.shot_id, None)

    def worst_solved(self) -> None:
        """Go to the frame on which the camera is off most."""
        if self._camera is not None:
            self._session.go_to(self._camera.worst_frame)

    def solved_points(self) -> None:
        """Show the solved points, or hide them."""
        self._session.set_desk(shows_points=not self._desk.shows_points)

    # -- planes -----------------------------------------------------------------------------------------------

    def new_scene_plane(self) -> None:
        """Draw round a part of the picture to lay a plane of the scene through it, or click three or more points."""
        if self._camera is None:
            self._session.error_shown.emit("Solve the camera first: planes of its scene are laid through its points.")
            return
        self._session.set_desk(surface_id="", step=Step.FOLLOW, tool="draw", draws="scene plane", part_id="",
                               shows_points=True)  # fmt: skip

    def lay_scene_plane(self) -> None:
        """Lay a plane through what was drawn round, or through the points that were clicked."""
        session, shot, camera, outline = self._session, self._session.shot, self._camera, self._desk.scene_outline
        frame = self._desk.frame
        if shot is None or camera is None or not outline:
            return
        points, name = np.array(outline), free_name("Plane", shot.surfaces)
        reach = self._desk.pick_px

        def run(check: Any) -> ScenePlane:
            picked = picked_plane(camera, frame, points, reach)
            return laid_plane(camera, frame, points) if picked is None else picked

        def came(plane: ScenePlane) -> None:
            fresh = Surface(id=new_id(), name=name, home_frame=frame, how=plane)
            if session.commit("Lay a scene plane", edits.add_surface, shot.id, fresh):
                session.set_desk(surface_id=fresh.id, tool="hand", draws="surface", scene_outline=())

        session.submit(("scene plane", outline, frame), Priority.SCREEN, run, came)

    def polish_plane(self) -> None:
        """Polish camera and planes on the pictures: the plane in hand, or all."""
        session, shot, plane = self._session, self._session.shot, self._plane()
        if shot is None or shot.camera is None:
            session.error_shown.emit("There is no scene plane to polish: solve the camera and lay one first.")
            return

        def run(check: Any) -> tuple[Solved, float, float]:
            ids = () if plane is None else (plane.id,)
            return polish_planes(session.engine, shot, ids, self._work.tell_later, check)

        def came(found: tuple[Solved, float, float]) -> None:
            solved, before, after = found
            session.commit("Polish", edits.set_camera, shot.id, solved.camera, solved.planes)
            session.note_shown.emit(f"Polished: {before:.3f} px off before, {after:.3f} px now.")

        self._work.run("Polishing", "polish", run, came)

    def name_ground(self) -> None:
        """Name the plane in hand the ground, or take that name off."""
        plane, camera = self._plane(), self._camera
        if plane is None or camera is None:
            self._session.error_shown.emit("Choose a plane of the solved scene to name it the ground.")
            return
        chosen = "" if camera.ground_id == plane.id else plane.id
        self._session.commit("Ground" if chosen else "No ground", edits.set_ground, self._desk.shot_id, chosen)

    def stand_upright(self) -> None:
        """Set the plane in hand upright on the ground."""
        plane = self._plane()
        if plane is not None:
            self._session.commit("Upright", edits.stand_upright, self._desk.shot_id, plane.id)

    def plane_farther(self) -> None:
        """Move the plane in hand away."""
        self.nudge(away=AWAY)

    def plane_nearer(self) -> None:
        """Move the plane in hand nearer."""
        self.nudge(away=-AWAY)

    def nudge(self, **by: float) -> None:
        """Tilt or move the plane in hand; see `edits.nudge_plane`."""
        plane = self._plane()
        if plane is not None:
            self._session.commit_while(
                f"Nudge {plane.name}", False, edits.nudge_plane, self._desk.shot_id, plane.id, **by
            )

    # -- lenses -----------------------------------------------------------------------------------------------

    def write_lens(self) -> None:
        """Write the lens of the solved camera to a file."""
        shot, camera = self._session.shot, self._camera
        if shot is None or camera is None:
            self._session.error_shown.emit("There is no lens to write: solve the camera first.")
            return
        chosen, _ = QFileDialog.getSaveFileName(self._window, "Write lens", f"{shot.name}-lens.json", LENS_FILTER)
        if not chosen:
            return
        path = Path(chosen)
        size = shot.footage.width, shot.footage.height
        self._session.submit(
            ("write lens", chosen), Priority.SCREEN, lambda check: write_lens(path, camera.lens, size),
            lambda _: self._session.note_shown.emit(f"The lens is written to {path.name}"),
        )  # fmt: skip

    def read_lens(self) -> None:
        """Give the next solve the lens of a file."""
        shot = self._session.shot
        if shot is None:
            return
        chosen, _ = QFileDialog.getOpenFileName(self._window, "Read lens", "", LENS_FILTER)
        if not chosen:
            return
        self._session.submit(
            ("read lens", chosen), Priority.SCREEN, lambda check: read_lens(Path(chosen), shot.footage.width),
            lambda lens: self._session.set_desk(lens=lens),
        )  # fmt: skip
