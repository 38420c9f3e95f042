"""What runs for long beside the interface, one at a time.

Following, measuring, rendering, drawing the demo.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import platformdirs
from PySide6.QtCore import QObject, Signal

from gommage.app.findings import measured_key
from gommage.app.session import Session
from gommage.core.check import FrameMeasures
from gommage.core.document import FrameRange, PointsFollow, Project, Surface, edits
from gommage.core.engine import (
    Priority,
    RenderReport,
    RenderTarget,
    follow_surface,
    followed_surface,
    render,
)
from gommage.core.engine import Step as WorkStep
from gommage.core.follow import Direction
from gommage.errors import RenderError

__all__ = ["LongWork", "Work"]

SHOW_EVERY_S = 0.06
"""A running follow is shown so often."""


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


@dataclass(frozen=True, slots=True)
class _Following:
    """A surface as far as it has been followed, on which frame, and how far that is.

    `reached` is the frame it got to: another one than `frame` where that is compared once more.
    """

    shot_id: str
    surface: Surface
    frame: int
    share: float
    reached: int

    @property
    def is_again(self) -> bool:
        """Whether the frame is compared once more."""
        return self.frame != self.reached

    def edit(self, project: Project) -> Project:
        """Take it up in a project."""
        fields: dict[str, Any] = {"track": self.surface.track}
        if isinstance(self.surface.how, PointsFollow):
            fields["how"] = self.surface.how
        return edits.change_surface(project, self.shot_id, self.surface.id, **fields)


class Work(QObject):
    """Runs long things and tells how far they are."""

    changed = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self.running: LongWork | None = None
        self._following: _Following | None = None
        self._name = ""
        session.begun.connect(self._on_begun)

    def _on_begun(self) -> None:
        """Forget what ran for the project that was left."""
        self._following = None
        if self.running is not None and self._name != "demo":
            self.end()

    @property
    def is_busy(self) -> bool:
        """Whether something long runs."""
        return self.running is not None

    def _set(self, running: LongWork | None) -> None:
        self.running = running
        self.changed.emit(running)

    def tell(self, words: str, share: float) -> None:
        """Tell how far what runs is; in the interface thread."""
        if self.running is not None:
            self._set(replace(self.running, words=words, share=share))

    def tell_later(self, words: str, share: float) -> None:
        """Tell how far what runs is; may be called from any thread."""
        self._session.later(lambda: self.tell(words, share))

    def begin(self, words: str) -> bool:
        """Begin something long, unless something runs already; returns whether it may begin."""
        if self.running is not None:
            self._session.note_shown.emit(f"{self.running.words} is still running; stop it first.")
            return False
        self._set(LongWork(words, 0.0, time.monotonic()))
        return True

    def end(self) -> None:
        """Note that nothing runs any more, and show no more of what it was about to do."""
        for name in ("closing", "line"):
            self._session.preview(name, None)
        self._set(None)

    def _failed(self, words: str) -> None:
        self._keep_follow()
        self.end()
        self._session.error_shown.emit(words)

    def stop(self) -> None:
        """Stop what is running; what a follow has found so far stays."""
        if self.running is None:
            return
        self._session.call_off("long")
        self._keep_follow()
        self.end()
        self._session.note_shown.emit("Stopped")

    def run(
        self, words: str, name: str, run: Callable[[Callable[[], None]], Any], returned: Callable[[Any], None]
    ) -> bool:
        """Run something long; its answer comes when nothing runs any more."""
        if not self.begin(words):
            return False
        self._name = name

        def done(value: Any) -> None:
            self.end()
            returned(value)

        self._session.submit(("long", name, time.monotonic_ns()), Priority.LONG, run, done, self._failed)
        return True

    # -- the demo -------------------------------------------------------------------------------------------

    def draw_demo(self, which: str, begun: Callable[[Project], None]) -> None:
        """Draw a shot of the paper theatre beside the interface, unless it is there.

        `begun` is told of it as soon as a frame exists.
        """
        session, words = self._session, "Drawing the paper theatre"
        is_begun = False

        def run(check: Callable[[], None]) -> Project:
            from gommage.demo.shots import SHOTS  # loaded late: it costs the start of the program a second

            root, shot = Path(platformdirs.user_cache_dir("gommage")), SHOTS[which]

            def shown(share: float) -> None:
                nonlocal is_begun
                if not is_begun:
                    is_begun = True
                    session.later(partial(begun, shot.project(root)))
                session.later(partial(self.tell, words, share))

            try:
                shot.make(root, shown, check)
            except OSError as error:
                raise RenderError(f"The demo shot could not be written to {root}: {error.strerror}.") from error
            return shot.project(root)

        self.run(words, "demo", run, lambda project: session.document_changed.emit(session.shown, session.shown))

    # -- follow ---------------------------------------------------------------------------------------------

    def follow(self, direction: Direction, frames: FrameRange | None = None) -> None:
        """Follow the surface in hand from the frame on the desk; frames show as they come.

        Parameters
        ----------
        direction : Direction
        frames : FrameRange, optional
            How far; the whole shot if left out.
        """
        session = self._session
        shot, surface = session.desk.shot(session.project), session.desk.surface(session.project)
        if shot is None or surface is None:
            return
        start, total = session.desk.frame, len(frames or shot.footage.frames)

        def run(check: Callable[[], None]) -> _Following:
            found, shown_s = _Following(shot.id, surface, start, 0.0, start), 0.0
            passed: set[int] = set()
            steps = follow_surface(session.engine, shot, surface, start, direction, frames, check)
            for count, step in enumerate(steps, 1):
                check()
                share = min(count / total, 1.0)
                reached = found.reached if step.frame in passed else step.frame
                passed.add(step.frame)
                found = _Following(shot.id, followed_surface(found.surface, step), step.frame, share, reached)
                if time.monotonic() - shown_s > SHOW_EVERY_S:
                    shown_s = time.monotonic()
                    session.later(partial(self._show_follow, found))
            return found

        goes_home = direction is Direction.BOTH
        self.run(f"Following {surface.name}", "follow", run, partial(self._on_followed, goes_home))

    def _show_follow(self, found: _Following) -> None:
        if self.running is None:
            return  # it came after the stop
        self._following = found
        words = "Fast frames once more" if found.is_again else self.running.words
        self.tell(words, found.share)
        self._session.preview("follow", found.edit)
        self._session.go_to(found.frame)

    def _keep_follow(self) -> None:
        """Make a step of history of what a follow has found."""
        found, self._following = self._following, None
        if found is not None:
            self._session.commit_preview("follow", f"Follow {found.surface.name}", found.edit)

    def _on_followed(self, goes_home: bool, found: _Following) -> None:
        self._following = found
        self._keep_follow()
        session, track = self._session, found.surface.track
        if track is None:
            return
        reasons = [reason for reason in (track.before, track.after) if reason]
        tail = f". It ended because {reasons[0]}" if reasons else ""
        name = found.surface.name
        session.note_shown.emit(f"{name}: frames {track.frames.first}–{track.frames.last}{tail}.")
        if session.desk.step is WorkStep.FOLLOW and session.desk.surface_id == found.surface.id:
            session.go_to(found.surface.home_frame if goes_home else found.reached)

    # -- check and render -----------------------------------------------------------------------------------

    def measure(self) -> None:
        """Measure the fix in hand on all frames."""
        session = self._session
        shot, fix = session.desk.shot(session.project), session.desk.fix(session.project)
        if shot is None or fix is None:
            return
        key, words = measured_key(shot, fix.id), f"Measuring {fix.name}"

        def run(check: Callable[[], None]) -> tuple[FrameMeasures, ...]:
            return session.engine.check(shot, fix, check, lambda share: session.later(partial(self.tell, words, share)))

        self.run(words, "measure", run, lambda figures: session.keep_measures(key, figures))

    def render(self, frames: range, target: RenderTarget) -> None:
        """Render beside the interface."""
        session = self._session
        shot = session.desk.shot(session.project)
        if shot is None:
            return
        shot = session.project.whole_of(shot.id)  # of a view of a panorama, the panorama

        def progress(done: int, total: int) -> None:
            session.later(partial(self.tell, f"Rendering {done} of {total}", done / total))

        def returned(report: RenderReport) -> None:
            if report.left_out:
                frame, words = report.left_out[0]
                more = f" and {len(report.left_out) - 1} more" if len(report.left_out) > 1 else ""
                session.error_shown.emit(f"Rendered, but frame {frame}{more} was left out. {words}")
            else:
                where = target.path if target.is_movie else target.path.name
                session.note_shown.emit(f"Rendered {len(frames)} frames to {where}")

        self.run(
            "Rendering", "render",
            lambda check: render(session.engine, shot, frames, target, progress, check), returned,
        )  # fmt: skip
