"""One open project: its history, what is shown of it, the desk, and the jobs that run for it."""

from __future__ import annotations

import time
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from gommage.app.desk import Desk, on_shot
from gommage.app.faults import details_of
from gommage.app.findings import Findings, donors_key
from gommage.core.check import FrameMeasures
from gommage.core.document import History, Project, Shot
from gommage.core.document.journal import Base, JournalWriter
from gommage.core.document.locks import ProjectLock
from gommage.core.engine import Engine, Jobs, Priority, ShotSummary, SurfaceSummary, summarised
from gommage.errors import EditError, unexpected

__all__ = ["Place", "Session"]

Edit = Callable[[Project], Project]
DEMO_JOB = ("long", "demo")
"""Draws the very shot that is put on the desk; it goes on."""
PREVIEWS = ("follow", "line", "solo", "proposal", "fill", "closing", "gesture")
"""What is shown without being done: what a follow has found, one part alone, a proposed key, what a hand does."""
SUMMARY_MS = 15
"""So long changes are gathered before lists and strip are brought up to date."""


@dataclass(frozen=True, slots=True)
class Place:
    """Where the open project is on the disk, and how it came from there.

    Attributes
    ----------
    folder : Path or None
        None: it was never saved.
    fingerprint : str
        Of the file there, as it was opened or saved; empty for none. See `store.save`.
    lock : ProjectLock or None
        None: it is open to look at, or was never saved.
    continues : str
        The journal's folder from which it was taken up after a crash, until it is saved.
    edits : int
        How many edits were taken up.
    is_to_look : bool
        Whether somebody else has it open: it is saved somewhere else.
    """

    folder: Path | None = None
    fingerprint: str = ""
    lock: ProjectLock | None = None
    continues: str = ""
    edits: int = 0
    is_to_look: bool = False


class Session(QObject):
    """The document and everything that happens to it. Lives in the interface thread.

    `document_changed` tells of the project as it is shown: with the edit of a gesture that goes on, and with what a
    follow has found so far, on top of what is in the history.
    """

    begun = Signal()
    document_changed = Signal(object, object)
    desk_changed = Signal(object, object)
    summary_changed = Signal()
    saved_changed = Signal()
    error_shown = Signal(str)
    note_shown = Signal(str)
    fault_shown = Signal(str, str)
    _later = Signal(object)

    def __init__(self, engine: Engine, journal_roots: tuple[Path, ...], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.engine = engine
        self.jobs = Jobs(self.report)
        self.history = History.of(Project())
        self.desk = Desk()
        self.place = Place()
        self.saved: Project = self.history.present
        self.summary = ShotSummary()
        self._shown: Project = self.history.present
        self._previews: dict[str, Edit] = {}
        self.findings = Findings()
        self.journal_roots = journal_roots
        self._asked_seen: Hashable = None
        self._journal: JournalWriter | None = None
        self._gesture = ""
        self._summarising = QTimer(self)
        self._summarising.setSingleShot(True)
        self._summarising.setInterval(SUMMARY_MS)
        self._summarising.timeout.connect(self._ask_summary)
        self._later.connect(self._run, Qt.ConnectionType.QueuedConnection)

    # -- document -------------------------------------------------------------------------------------------

    @property
    def project(self) -> Project:
        """The project as it is in the history."""
        return self.history.present

    @property
    def shown(self) -> Project:
        """The project as it is shown."""
        return self._shown

    @property
    def shot(self) -> Shot | None:
        """The shot on the desk, as it is shown."""
        return self.desk.shot(self._shown)

    @property
    def folder(self) -> Path | None:
        """The project's folder; None if it was never saved."""
        return self.place.folder

    @property
    def has_unsaved(self) -> bool:
        """Whether there is something that is not in the project's folder."""
        return self.project is not self.saved

    def begin(self, project: Project, place: Place | None = None, *, is_saved: bool = True) -> None:
        """Put another project on the desk, from its place on the disk if it has one."""
        self.jobs.cancel(lambda key: not (isinstance(key, tuple) and key[:2] == DEMO_JOB))
        self.begun.emit()
        old = self._shown
        self.history = History.of(project)
        self._previews.clear()
        self._shown = project
        self._give_back(place)
        self.place = place or Place()
        self.saved = project if is_saved else Project()
        self.summary = ShotSummary()
        self.findings.clear()
        self._asked_seen = None
        self._open_journal()
        old_desk, self.desk = self.desk, _fresh_desk(project, self.desk)
        self.document_changed.emit(old, project)
        self.desk_changed.emit(old_desk, self.desk)
        self._summarising.start()

    def _give_back(self, new: Place | None) -> None:
        """Let others have the project that is left for another."""
        lock = self.place.lock
        if lock is not None and (new is None or new.lock is not lock):
            self.submit(("release", id(lock)), Priority.SCREEN, lambda check: lock.release(), lambda _: None)

    def _base(self) -> Base:
        """Return what the journal's lines come on top of."""
        place = self.place
        return Base(self.project, str(place.folder or ""), place.fingerprint, place.continues, place.edits)

    def _open_journal(self) -> None:
        if self._journal is not None:
            self._journal.close()
        self._journal = JournalWriter(self.journal_roots, self._base(), self._on_told)

    def _on_told(self, words: str, is_fault: bool) -> None:
        """Show what the journal's thread tells."""
        signal = self.error_shown if is_fault else self.note_shown
        self.later(lambda: signal.emit(words))

    def commit(self, label: str, edit: Callable[..., Project], *arguments: Any, **fields: Any) -> bool:
        """Do one edit as one step of history; returns whether it was done. A refusal is shown in words."""
        new = self._edited(edit, *arguments, **fields)
        if new is None:
            return False
        if new is not self.project:
            self.history = self.history.push(label, new)
            self._after_step()
        return True

    def _edited(self, edit: Callable[..., Project], *arguments: Any, **fields: Any) -> Project | None:
        try:
            return edit(self.project, *arguments, **fields)
        except EditError as error:
            self.error_shown.emit(str(error))
            return None

    def commit_while(
        self, label: str, is_final: bool, edit: Callable[..., Project], *arguments: Any, **fields: Any
    ) -> None:
        """Do an edit of a drag: all edits of one drag are one step of history."""
        if self._gesture == label and self.history.undo_label == label:
            new = self._edited(edit, *arguments, **fields)
            if new is not None and new is not self.project:
                self.history = self.history.undo().push(label, new)
                self._after_step()
        else:
            before = self.project
            self.commit(label, edit, *arguments, **fields)
            self._gesture = label if self.project is not before else ""
        if is_final:
            self._gesture = ""

    def preview(self, name: str, edit: Edit | None) -> None:
        """Show the project as an edit would make it, without doing it; None shows it as it is.

        `name` tells several such edits apart: "gesture" is what a hand does, "follow" what a follow has found.
        """
        if edit is None and name not in self._previews:
            return
        if edit is None:
            del self._previews[name]
        else:
            self._previews[name] = edit
        self._show()

    def commit_preview(self, name: str, label: str, edit: Edit) -> bool:
        """Do an edit that was shown as a preview, in one go; returns whether it was done."""
        self._previews.pop(name, None)
        is_done = self.commit(label, edit)
        self._show()
        return is_done

    def _show(self) -> None:
        """Bring what is shown up to date with the history and what goes on."""
        shown = self.project
        for name in PREVIEWS:
            if name in self._previews:
                try:
                    shown = self._previews[name](shown)
                except EditError:
                    continue  # its end will say why
        old, self._shown = self._shown, shown
        if shown is not old:
            self._drop_lost_selection()
            self.document_changed.emit(old, shown)
            if not self._summarising.isActive():
                self._summarising.start()

    def undo(self) -> None:
        """Take the last step back."""
        label = self.history.undo_label
        if label is not None:
            self.history = self.history.undo()
            self._after_step()
            self.note_shown.emit(f"Undid: {label}")

    def redo(self) -> None:
        """Do the step again that was taken back."""
        label = self.history.redo_label
        if label is not None:
            self.history = self.history.redo()
            self._after_step()
            self.note_shown.emit(f"Did again: {label}")

    def _after_step(self) -> None:
        if self._journal is not None:
            self._journal.record(self.project)
        self._show()

    def _drop_lost_selection(self) -> None:
        shot = self.shot
        if shot is None:
            return
        changes: dict[str, Any] = {}
        for name, items in (("surface_id", shot.surfaces), ("fix_id", shot.fixes), ("plate_id", shot.clean_plates)):
            chosen = getattr(self.desk, name)
            if chosen and chosen not in {item.id for item in items}:
                changes[name] = items[-1].id if items else ""
        known = {fix.id for fix in shot.fixes}
        if any(one not in known for one in self.desk.fix_ids):
            changes["fix_ids"] = tuple(one for one in self.desk.fix_ids if one in known)
        if changes:
            self.set_desk(**changes)

    def mark_saved(self, project: Project, place: Place) -> None:
        """Note that a project was written to a place."""
        self._give_back(place)
        self.place, self.saved = place, project
        if self._journal is not None:
            self._journal.rebase(replace(self._base(), project=project))
            if self.project is not project:
                self._journal.record(self.project)
        self.saved_changed.emit()
        assert place.folder is not None
        self.note_shown.emit(f"Saved {place.folder.name}")

    def close(self) -> list[str]:
        """Stop all work and drop the journal; returns what did not stop."""
        self._summarising.stop()
        stuck = self.jobs.close()
        if self._journal is not None:
            self._journal.close()
            self._journal = None
        if self.place.lock is not None:
            self.place.lock.release()
        return stuck

    # -- desk -----------------------------------------------------------------------------------------------

    def set_desk(self, **changes: Any) -> None:
        """Change what the window looks at."""
        old = self.desk
        new = replace(old, **changes).settled
        if new != old:
            self.desk = new
            self.desk_changed.emit(old, new)

    def go_to(self, frame: int) -> None:
        """Go to a frame, kept within the shot."""
        shot = self.shot
        if shot is not None:
            frames = shot.footage.frames
            self.set_desk(frame=min(max(frame, frames.first), frames.last))

    # -- jobs -----------------------------------------------------------------------------------------------

    def _run(self, call: Callable[[], object]) -> None:
        call()

    def later(self, call: Callable[[], object]) -> None:
        """Call something in the interface thread; may be called from any thread."""
        self._later.emit(call)

    def report(self, error: BaseException) -> None:
        """Show an error that nobody expected, with its details; may be called from any thread."""
        words, details = unexpected(error), details_of(error)
        self.later(lambda: self.fault_shown.emit(words, details))

    def submit(
        self,
        key: Hashable,
        priority: Priority,
        run: Callable[[Callable[[], None]], Any],
        returned: Callable[[Any], object],
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

    def call_off(self, *kinds: str) -> None:
        """Call off all jobs whose key begins with one of these words."""
        self.jobs.cancel(lambda key: isinstance(key, tuple) and key[0] in kinds)

    # -- what was found out ---------------------------------------------------------------------------------

    def measures(self, fix_id: str) -> tuple[FrameMeasures, ...]:
        """Return the figures of a fix as it is now, empty if it was not measured since it changed."""
        return self.findings.measures(self.shot, fix_id)

    def keep_measures(self, key: Hashable, figures: tuple[FrameMeasures, ...]) -> None:
        """Keep the figures that were measured for a `measured_key`."""
        self.findings.keep_measures(key, figures)
        self._summarising.start()

    def drift(self, part_id: str) -> dict[int, float]:
        """Return how far carrying a part of scribbles drifted on each frame, empty if it was not carried as it is."""
        shot = self.shot
        part = self.desk.part(self._shown) if shot is not None else None
        if shot is None or part is None or part.id != part_id:
            return {}
        return self.findings.drift((shot.footage, part.source))

    def keep_drift(self, key: Hashable, drifts: dict[int, float]) -> None:
        """Keep how far carrying drifted, for footage and scribbles."""
        self.findings.keep_drift(key, drifts)
        self.summary_changed.emit()

    def seen(self, fix_id: str) -> dict[int, float]:
        """Return how much of a fix's cover donors show on each frame, empty if that was not looked at as it is."""
        return self.findings.seen(self.shot, fix_id)

    def ask_seen(self, fix_id: str) -> None:
        """Find out, beside everything else, how much of a fix's cover donors show on each frame."""
        shot = self.shot
        if shot is None:
            return
        key, fix = donors_key(shot, fix_id), shot.fix(fix_id)
        if key == self._asked_seen or self.findings.knows_seen(key):
            return
        self._asked_seen = key
        self.call_off("seen")

        def keep(found: dict[int, float]) -> None:
            self.findings.keep_seen(key, found)
            self._summarising.start()

        self.submit(
            ("seen", key), Priority.IDLE, lambda check: self.engine.shares_seen(shot, fix, check), keep,
            lambda words: None,
        )  # fmt: skip

    def surface_summary(self, surface_id: str) -> SurfaceSummary | None:
        """Return what is known of a surface over its frames; a moment old while it changes."""
        return self.summary.surfaces.get(surface_id)

    def _ask_summary(self) -> None:
        shot = self.shot
        if shot is None:
            self.summary = ShotSummary()
            self.summary_changed.emit()
            return
        figures: Mapping[str, tuple[FrameMeasures, ...]] = {fix.id: self.measures(fix.id) for fix in shot.fixes}
        seen = {fix.id: self.seen(fix.id) for fix in shot.fixes}
        before = self.summary
        self.call_off("summary")
        self.submit(
            ("summary", shot, time.monotonic_ns()),
            Priority.SCREEN,
            lambda check: summarised(shot, figures, before, check, seen),
            self._on_summary,
        )

    def _on_summary(self, summary: ShotSummary) -> None:
        self.summary = summary
        self.summary_changed.emit()


def _fresh_desk(project: Project, before: Desk) -> Desk:
    """Return the desk for a project that was just opened; how one looks and paints stays."""
    desk = Desk(display=before.display, brush=before.brush, has_lattice=before.has_lattice)
    if not project.shots:
        return desk
    shot = project.shots[0]
    frame = shot.surfaces[0].home_frame if shot.surfaces else shot.footage.frames.first
    return replace(desk, **on_shot(shot, frame))
