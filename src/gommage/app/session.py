"""One open project: its history, the desk, the engine, and the jobs that run for it."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Hashable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import platformdirs
from PySide6.QtCore import QObject, Qt, Signal

from gommage.app.desk import Desk
from gommage.core.check import FrameMeasures
from gommage.core.document import Frames, History, PointsFollow, Project, Surface, Track, edits, placement, store
from gommage.core.document.journal import Journal
from gommage.core.engine import (
    Engine,
    Jobs,
    Priority,
    RenderTarget,
    follow_surface,
    followed_surface,
    render,
)
from gommage.core.engine.evaluate import fix_inputs
from gommage.core.engine.render import RenderReport
from gommage.core.follow import Direction, FollowStep
from gommage.errors import EditError, ProjectError, RenderError

__all__ = ["LongWork", "Session"]


@dataclass(frozen=True, slots=True)
class LongWork:
    """Something long that runs: its words, how far it is, when it began."""

    words: str
    share: float
    began_s: float

    @property
    def seconds_left(self) -> float | None:
        """An estimate, once there is something to estimate from."""
        if self.share < 0.03:
            return None
        spent = time.monotonic() - self.began_s
        return spent / self.share - spent


class Session(QObject):
    """The document and everything that happens to it. Lives in the interface thread."""

    document_changed = Signal(object, object)
    desk_changed = Signal(object, object)
    work_changed = Signal(object)
    track_grew = Signal()
    measured = Signal()
    saved_changed = Signal()
    error_shown = Signal(str)
    note_shown = Signal(str)
    _later = Signal(object)

    def __init__(self, engine: Engine, journal_root: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.engine = engine
        self.jobs = Jobs()
        self.history = History.of(Project())
        self.desk = Desk()
        self.folder: Path | None = None
        self.saved: Project = self.history.present
        self.work: LongWork | None = None
        self.live_surface: Surface | None = None
        self.live_frame = 0
        self._measures: dict[Hashable, tuple[FrameMeasures, ...]] = {}
        self._journal_root = journal_root
        self._journal: Journal | None = None
        self._gesture = ""
        self._followed_shot = ""
        self._later.connect(self._run, Qt.ConnectionType.QueuedConnection)

    # -- document -------------------------------------------------------------------------------------------

    @property
    def project(self) -> Project:
        """The project as it is now."""
        return self.history.present

    @property
    def has_unsaved(self) -> bool:
        """Whether there is something that is not in the project's folder."""
        return self.project is not self.saved

    def begin(self, project: Project, folder: Path | None = None, *, is_saved: bool = True) -> None:
        """Put another project on the desk."""
        self.jobs.cancel(lambda key: True)
        self._set_work(None)
        old = self.project
        self.history = History.of(project)
        self.folder = folder
        self.saved = project if is_saved else Project()
        self._measures.clear()
        self._open_journal(project)
        shot = project.shots[0] if project.shots else None
        fresh = Desk(display=self.desk.display)
        if shot is not None:
            fresh = replace(
                fresh,
                shot_id=shot.id,
                frame=shot.surfaces[0].home_frame if shot.surfaces else shot.footage.frames.first,
                surface_id=shot.surfaces[-1].id if shot.surfaces else "",
                fix_id=shot.fixes[-1].id if shot.fixes else "",
                plate_id=shot.clean_plates[-1].id if shot.clean_plates else "",
                tool="edit" if shot.surfaces else "draw",
            )
        old_desk, self.desk = self.desk, fresh
        self.document_changed.emit(old, project)
        self.desk_changed.emit(old_desk, fresh)

    def _open_journal(self, project: Project) -> None:
        if self._journal is not None:
            self._journal.close()
        name = f"{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}-{time.monotonic_ns() % 100000}"
        try:
            self._journal = Journal(self._journal_root / name, project, str(self.folder or ""))
        except ProjectError as error:
            self._journal = None
            self.error_shown.emit(str(error))

    def commit(self, label: str, edit: Callable[..., Project], *arguments: Any, **fields: Any) -> bool:
        """Do one edit as one step of history; returns whether it was done. A refusal is shown in words."""
        old = self.project
        try:
            new = edit(old, *arguments, **fields)
        except EditError as error:
            self.error_shown.emit(str(error))
            return False
        if new is old:
            return True
        self.history = self.history.push(label, new)
        self._after_step(old, new)
        return True

    def commit_while(
        self, label: str, is_final: bool, edit: Callable[..., Project], *arguments: Any, **fields: Any
    ) -> None:
        """Do an edit of a drag: all edits of one drag are one step of history."""
        if self._gesture == label and self.history.undo_label == label:
            old = self.project
            try:
                new = edit(old, *arguments, **fields)
            except EditError as error:
                self.error_shown.emit(str(error))
                new = old
            if new is not old:
                self.history = self.history.undo().push(label, new)
                self._after_step(old, new)
        else:
            before = self.project
            self.commit(label, edit, *arguments, **fields)
            self._gesture = label if self.project is not before else ""
        if is_final:
            self._gesture = ""

    def undo(self) -> None:
        """Take the last step back."""
        label = self.history.undo_label
        if label is not None:
            self._step(self.history.undo(), f"Undid: {label}")

    def redo(self) -> None:
        """Do the step again that was taken back."""
        label = self.history.redo_label
        if label is not None:
            self._step(self.history.redo(), f"Did again: {label}")

    def _step(self, history: History, words: str) -> None:
        old, self.history = self.project, history
        self._after_step(old, self.project)
        self.note_shown.emit(words)

    def _after_step(self, old: Project, new: Project) -> None:
        if self._journal is not None:
            try:
                self._journal.record(new)
            except ProjectError as error:
                self.error_shown.emit(str(error))
        self._drop_lost_selection()
        self.document_changed.emit(old, new)

    def _drop_lost_selection(self) -> None:
        shot = self.desk.shot(self.project)
        if shot is None:
            return
        changes: dict[str, str] = {}
        for name, items in (
            ("surface_id", shot.surfaces),
            ("fix_id", shot.fixes),
            ("plate_id", shot.clean_plates),
        ):
            if getattr(self.desk, name) not in {item.id for item in items}:
                changes[name] = items[-1].id if items else ""
        if changes:
            self.set_desk(**changes)

    def save(self, folder: Path) -> bool:
        """Write the project; returns whether it is safe on disk."""
        try:
            store.save(self.project, folder)
        except ProjectError as error:
            self.error_shown.emit(str(error))
            return False
        self.folder, self.saved = folder, self.project
        if self._journal is not None:
            try:
                self._journal.rebase(self.project, str(folder))
            except ProjectError as error:
                self.error_shown.emit(str(error))
        self.saved_changed.emit()
        self.note_shown.emit(f"Saved {folder.name}")
        return True

    def close(self) -> list[str]:
        """Stop all work and drop the journal; returns what did not stop."""
        stuck = self.jobs.close()
        if self._journal is not None:
            self._journal.close()
            self._journal = None
        return stuck

    # -- desk -----------------------------------------------------------------------------------------------

    def set_desk(self, **changes: Any) -> None:
        """Change what the window looks at."""
        old = self.desk
        new = replace(old, **changes)
        if new != old:
            self.desk = new
            self.desk_changed.emit(old, new)

    def go_to(self, frame: int) -> None:
        """Go to a frame, kept within the shot."""
        shot = self.desk.shot(self.project)
        if shot is not None:
            frames = shot.footage.frames
            self.set_desk(frame=min(max(frame, frames.first), frames.last))

    # -- jobs -----------------------------------------------------------------------------------------------

    def _run(self, call: Callable[[], None]) -> None:
        call()

    def later(self, call: Callable[[], None]) -> None:
        """Call something in the interface thread; may be called from any thread."""
        self._later.emit(call)

    def submit(
        self,
        key: Hashable,
        priority: Priority,
        run: Callable[[Callable[[], None]], Any],
        returned: Callable[[Any], None],
        failed: Callable[[str], None] | None = None,
    ) -> None:
        """Run something beside the interface; its answer comes back in the interface thread."""
        show = failed or self.error_shown.emit
        self.jobs.submit(
            key,
            priority,
            run,
            lambda value: self.later(lambda: returned(value)),
            lambda words: self.later(lambda: show(words)),
        )

    def _set_work(self, work: LongWork | None) -> None:
        self.work = work
        self.work_changed.emit(work)

    def _progress(self, words: str, share: float) -> None:
        if self.work is not None:
            self._set_work(replace(self.work, words=words, share=share))

    def is_busy(self) -> bool:
        """Whether something long runs."""
        return self.work is not None

    def draw_demo(self) -> None:
        """Draw the demo shot beside the interface, unless it is there, and put it on the desk."""
        if not self._begin_work("Drawing the paper theatre"):
            return

        def run(check: Callable[[], None]) -> Project:
            from gommage.demo import make_demo  # loaded late: it costs the start of the program a second
            from gommage.demo.job import demo_project

            root = Path(platformdirs.user_cache_dir("gommage"))
            shown = partial(self._progress, "Drawing the paper theatre")
            try:
                return demo_project(make_demo(root, lambda share: self.later(partial(shown, share)), check))
            except OSError as error:
                raise RenderError(f"The demo shot could not be written to {root}: {error.strerror}.") from error

        self.submit(("long", "demo"), Priority.LONG, run, self.begin, self._failed)

    def stop(self) -> None:
        """Stop what is running; what a follow has found so far stays."""
        if self.work is None:
            return
        self.jobs.cancel(lambda key: isinstance(key, tuple) and key[:1] == ("long",))
        self._keep_track()
        self._set_work(None)
        self.note_shown.emit("Stopped")

    def _begin_work(self, words: str) -> bool:
        if self.work is not None:
            self.note_shown.emit(f"{self.work.words} is still running; stop it first.")
            return False
        self._set_work(LongWork(words, 0.0, time.monotonic()))
        return True

    def _failed(self, words: str) -> None:
        self._keep_track()
        self._set_work(None)
        self.error_shown.emit(words)

    # -- follow ---------------------------------------------------------------------------------------------

    def follow(self, direction: Direction, frames: Frames | None = None) -> None:
        """Follow the surface in hand from the frame on the desk; frames show as they come.

        Parameters
        ----------
        direction : Direction
        frames : Frames, optional
            How far; the whole shot if left out.
        """
        shot, surface = self.desk.shot(self.project), self.desk.surface(self.project)
        if shot is None or surface is None or not self._begin_work(f"Following {surface.name}"):
            return
        start, total = self.desk.frame, len(frames or shot.footage.frames)
        self.live_surface, self._followed_shot = surface, shot.id

        def run(check: Callable[[], None]) -> int:
            count = 0
            for step in follow_surface(self.engine, shot, surface, start, direction, frames, check):
                count += 1
                check()
                self.later(partial(self._on_step, step, count / total))
            return count

        self.submit(("long", "follow", surface), Priority.LONG, run, self._on_followed, self._failed)

    def _on_step(self, step: FollowStep, share: float) -> None:
        if self.work is None or self.live_surface is None:
            return  # it came after the stop
        self.live_surface = followed_surface(self.live_surface, step)
        self.live_frame = step.frame
        self._progress(self.work.words, min(share, 1.0))
        self.track_grew.emit()

    def _keep_track(self) -> None:
        surface, self.live_surface = self.live_surface, None
        if surface is not None:
            self.commit(
                f"Follow {surface.name}",
                edits.change_surface, self._followed_shot, surface.id, track=surface.track,
                **({"how": surface.how} if isinstance(surface.how, PointsFollow) else {}),
            )  # fmt: skip

    def _on_followed(self, count: int) -> None:
        surface = self.live_surface
        self._keep_track()
        self._set_work(None)
        track = surface.track if surface is not None else None
        if surface is not None and track is not None:
            reasons = [reason for reason in (track.before, track.after) if reason]
            tail = f". It ended because {reasons[0]}" if reasons else ""
            self.note_shown.emit(f"{surface.name}: frames {track.frames.first}–{track.frames.last}{tail}.")

    def placed(self, surface: Surface) -> Track | None:
        """Return where a surface is, as far as it is found while it is being followed."""
        shot = self.desk.shot(self.project)
        if shot is None:
            return None
        if self.live_surface is not None and self.live_surface.id == surface.id:
            surface = self.live_surface
        return placement(shot, surface)

    # -- check and render -----------------------------------------------------------------------------------

    def measures(self, fix_id: str) -> tuple[FrameMeasures, ...]:
        """Return the figures of a fix as it is now, empty if it was not measured since it changed."""
        shot = self.desk.shot(self.project)
        if shot is None or fix_id not in {fix.id for fix in shot.fixes}:
            return ()
        return self._measures.get((fix_id, fix_inputs(shot, shot.fix(fix_id))), ())

    def measure(self) -> None:
        """Measure the fix in hand on all frames."""
        shot, fix = self.desk.shot(self.project), self.desk.fix(self.project)
        if shot is None or fix is None or not self._begin_work(f"Measuring {fix.name}"):
            return
        key = (fix.id, fix_inputs(shot, fix))

        def run(check: Callable[[], None]) -> tuple[FrameMeasures, ...]:
            return self.engine.check(
                shot,
                fix,
                check,
                lambda share: self.later(lambda: self._progress(f"Measuring {fix.name}", share)),
            )

        def returned(figures: tuple[FrameMeasures, ...]) -> None:
            self._measures[key] = figures
            self._set_work(None)
            self.measured.emit()

        self.submit(("long", "measure", key), Priority.LONG, run, returned, self._failed)

    def render(self, frames: range, target: RenderTarget) -> None:
        """Render beside the interface."""
        shot = self.desk.shot(self.project)
        if shot is None or not self._begin_work("Rendering"):
            return

        def run(check: Callable[[], None]) -> RenderReport:
            return render(
                self.engine,
                shot,
                frames,
                target,
                lambda done, total: self.later(lambda: self._progress(f"Rendering {done} of {total}", done / total)),
                check,
            )

        def returned(report: RenderReport) -> None:
            self._set_work(None)
            if report.left_out:
                frame, words = report.left_out[0]
                more = f" and {len(report.left_out) - 1} more" if len(report.left_out) > 1 else ""
                self.error_shown.emit(f"Rendered, but frame {frame}{more} was left out. {words}")
            else:
                where = target.path if target.is_movie else target.path.name
                self.note_shown.emit(f"Rendered {len(frames)} frames to {where}")

        self.submit(("long", "render"), Priority.LONG, run, returned, self._failed)
