"""Lines of covers: drawn along wires, snapped to them, followed over the shot."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial

from gommage.app.session import Session
from gommage.app.work import SHOW_EVERY_S, Work
from gommage.core.document import Drawn, Fix, MattePart, Project, Shot, edits
from gommage.core.document.edits import Slot
from gommage.core.engine import LineStep, Priority, Step, follow_line, snapped_line, with_line
from gommage.core.follow import Direction

__all__ = ["LineCommands", "open_line"]


def open_line(part: MattePart | None) -> bool:
    """Return whether a part is an open line."""
    return part is not None and isinstance(part.source, Drawn) and not part.source.shape.is_closed


class LineCommands:
    """What is done with lines along wires."""

    def __init__(self, session: Session, work: Work) -> None:
        self._session, self._work = session, work

    def _found(self) -> tuple[Shot, Fix, MattePart] | None:
        """Return the line in hand with its fix."""
        shot, fix = self._session.shot, self._session.desk.fix(self._session.project)
        part = self._session.desk.part(self._session.project)
        if shot is None or fix is None or part is None or not open_line(part):
            self._session.error_shown.emit("No line is in hand. Draw one along a wire first.")
            return None
        return shot, fix, part

    def draw_wire(self) -> None:
        """Draw lines along wires: two clicks each, or a rough stroke."""
        step = Step.COVER if self._session.desk.step is not Step.FILL else Step.FILL
        self._session.set_desk(tool="draw", slot=Slot.COVER, draws_wire=True, step=step)

    def edit_line(self) -> None:
        """Take the points of lines into the hand."""
        self._session.set_desk(step=Step.COVER, tool="edit", slot=Slot.COVER)

    def snap_line(self) -> None:
        """Lay the line in hand on the wire that it was roughly drawn along."""
        found, session = self._found(), self._session
        if found is None:
            return
        shot, _, part = found
        frame, engine = session.desk.frame, session.engine

        def returned(snapped: MattePart) -> None:
            fields = {"source": snapped.source, "grow_px": snapped.grow_px}
            session.commit("Snap line", edits.change_part, shot.id, part.id, **fields)

        session.submit(
            ("line", part.id, frame), Priority.SCREEN, lambda check: snapped_line(engine, shot, part, frame, check),
            returned,
        )  # fmt: skip

    def follow_line(self) -> None:
        """Follow the line in hand both ways, or over the marked frames."""
        self._follow(False)

    def follow_lines(self) -> None:
        """Follow all lines of the fix in hand, one after the other."""
        self._follow(True)

    def _follow(self, all_of_them: bool) -> None:
        found, session = self._found(), self._session
        if found is None:
            return
        shot, fix, part = found
        parts = [one for one in fix.cover.parts if open_line(one)] if all_of_them else [part]
        start, frames, words = session.desk.frame, session.desk.marked_frames, f"Following the line of {fix.name}"
        total = len(frames or shot.footage.frames) * len(parts)

        def edit(project: Project, steps: dict[str, tuple[LineStep, ...]]) -> Project:
            for part_id, ones in steps.items():
                project = with_line(project, shot.id, part_id, ones)
            return project

        def run(check: Callable[[], None]) -> dict[str, tuple[LineStep, ...]]:
            done: dict[str, tuple[LineStep, ...]] = {}
            shown_s, count = 0.0, 0
            for one in parts:
                steps: list[LineStep] = []
                for step in follow_line(session.engine, shot, one, start, Direction.BOTH, frames, check):
                    steps.append(step)
                    count += 1
                    done = {**done, one.id: tuple(steps)}
                    if time.monotonic() - shown_s > SHOW_EVERY_S:
                        shown_s = time.monotonic()
                        session.later(partial(shown, done, step.frame, min(count / total, 1.0)))
            return done

        def shown(done: dict[str, tuple[LineStep, ...]], frame: int, share: float) -> None:
            if self._work.is_busy:
                self._work.tell(words, share)
                session.preview("line", partial(edit, steps=done))
                session.go_to(frame)

        def returned(done: dict[str, tuple[LineStep, ...]]) -> None:
            session.commit_preview("line", f"Follow the line of {fix.name}", partial(edit, steps=done))
            session.go_to(start)
            lost = sorted({step.frame for steps in done.values() for step in steps if step.key is None})
            session.note_shown.emit(
                f"{fix.name}: found on all frames."
                if not lost
                else f"{fix.name}: not found on {len(lost)} frames, first on {lost[0]}. Key it there by hand."
            )

        self._work.run(words, "line", run, returned)
