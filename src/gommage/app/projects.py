"""The commands of projects: opening, saving, taking up what a crash left, and asking before work is left.

Nothing is read or written in the interface thread: a job does it, and what comes back is shown.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from gommage.app.dialogs.question import ask
from gommage.app.dialogs.recovery import RecoveryDialog
from gommage.app.recent import Recent, RecentFiles
from gommage.app.session import Place, Session
from gommage.core.document import Project, edits, store
from gommage.core.document.locks import ProjectLock
from gommage.core.document.recovery import LeftBehind, Recovered, left_behind, recover, throw_away
from gommage.core.engine import Look, Priority, ViewRequest, view_pixels
from gommage.core.geometry import scaling
from gommage.core.picture import open_plates, probe
from gommage.errors import FootageError, GommageError, ProjectChangedError, ProjectInUseError

__all__ = ["ProjectCommands"]

RECENT_WIDTH = 288
Found = tuple[store.Opened, dict[str, str], ProjectLock | None, str]
"""A project that was read, its footage that has moved, its lock, and who has that instead."""
Taken = tuple[Recovered, dict[str, str], ProjectLock | None, str]
"""The same for work that was taken up."""


class ProjectCommands:
    """One method for each action of the table that belongs to projects."""

    def __init__(self, session: Session, window: QWidget, state_root: Path) -> None:
        self._session, self._window = session, window
        self._recent = RecentFiles(state_root)
        self._put_off: set[Path] = set()
        self._is_saving = False
        self._save_again: list[Callable[[bool], None]] = []
        session.begun.connect(self._on_begun)

    def _on_begun(self) -> None:
        """Forget what was to be saved of the project that was left."""
        self._is_saving = False
        self._save_again.clear()

    # -- opening --------------------------------------------------------------------------------------------

    def open_project(self, folder: Path | None = None) -> None:
        """Open a project; footage that has moved is asked for."""
        if folder is None:
            chosen = QFileDialog.getExistingDirectory(self._window, "Open project")
            if not chosen:
                return
            folder = Path(chosen)
        where = store.folder_of(folder.absolute())
        self.leaving(lambda: self.recover_work(partial(self._load, where), where))

    def _load(self, folder: Path, takes_over: bool = False) -> None:
        def read(check: object) -> Found:
            opened = store.opened(folder)
            lock, holder = self._locked(folder, takes_over=takes_over)
            return opened, _moved_footage(opened.project), lock, holder

        self._session.note_shown.emit(f"Opening {folder.name} …")
        self._session.submit(("load", str(folder)), Priority.SCREEN, read, partial(self._on_loaded, folder))

    def _locked(self, folder: Path, *, takes_over: bool = False) -> tuple[ProjectLock | None, str]:
        """Return the lock of a project, or who has it instead; one that is open here keeps its own."""
        own = self._session.place
        if own.folder == folder and own.lock is not None and own.lock.is_mine():
            return own.lock, ""
        try:
            return ProjectLock(folder, takes_over=takes_over), ""
        except ProjectInUseError as error:
            return None, str(error)

    def _on_loaded(self, folder: Path, found: Found) -> None:
        self._session.note_shown.emit("")
        opened, moved, lock, holder = found
        if holder:
            words = f"{holder} What you save here and there would overwrite each other."
            answer = ask(self._window, "Open elsewhere", words, "Open to look", "Take over", "Back")
            if answer == "Take over":
                self._load(folder, takes_over=True)
            if answer != "Open to look":
                return
        place = Place(folder, opened.fingerprint, lock, is_to_look=lock is None)
        self._find_footage(opened.project, moved, partial(self._begin, place))

    def _begin(self, place: Place, project: Project) -> None:
        self._session.begin(project, place)
        assert place.folder is not None
        self._note_recent(place.folder)

    def _find_footage(self, project: Project, moved: dict[str, str], done: Callable[[Project], None]) -> None:
        """Ask, shot by shot, where footage that has moved is now; then go on with what was found."""
        if not moved:
            done(project)
            return
        shot_id, words = next(iter(moved.items()))
        rest = {one: why for one, why in moved.items() if one != shot_id}
        name = project.shot(shot_id).name
        question = f"{words}\n\nWhere are the pictures of {name} now?"
        chosen = ""
        if ask(self._window, "Footage has moved", question, "Find them…", "Open without") == "Find them…":
            chosen, _ = QFileDialog.getOpenFileName(self._window, f"Pictures of {name}")
        if not chosen:
            self._find_footage(project, rest, done)
            return

        def relinked(check: Callable[[], None]) -> Project:
            return edits.relink_footage(project, shot_id, probe(Path(chosen), check).footage)

        def failed(sentence: str) -> None:
            self._session.error_shown.emit(sentence)
            self._find_footage(project, rest, done)

        self._session.submit(
            ("relink", chosen), Priority.SCREEN, relinked, lambda new: self._find_footage(new, rest, done), failed
        )

    # -- what a crash left ----------------------------------------------------------------------------------

    def recover_work(self, go_on: Callable[[], object] | None = None, of: Path | None = None) -> None:
        """List what crashes left behind, if they left something; go on with something else if nothing is taken up.

        Parameters
        ----------
        go_on : callable, optional
            Called if nothing is taken up. Without it the list was asked for, and that it is empty is said.
        of : Path, optional
            The project that is about to be opened: only its own is listed, unless that was put off before.
        """
        roots = self._session.journal_roots

        def came(found: tuple[LeftBehind, ...]) -> None:
            if of is not None:
                found = tuple(one for one in found if one.saved_at == str(of) and one.folder not in self._put_off)
            if found:
                self._choose(found, go_on)
            elif go_on is not None:
                go_on()
            else:
                self._session.note_shown.emit("Nothing was left behind.")

        self._session.submit(("left behind",), Priority.SCREEN, lambda check: left_behind(roots), came)

    def _choose(self, found: tuple[LeftBehind, ...], go_on: Callable[[], object] | None) -> None:
        dialog = RecoveryDialog(found, self._window)
        dialog.exec()
        taken, thrown_away = dialog.taken, dialog.thrown_away
        dialog.deleteLater()
        roots = self._session.journal_roots
        self._put_off |= {one.folder for one in found}
        for one in thrown_away:
            self._session.submit(
                ("throw away", one.folder), Priority.SCREEN, partial(_thrown_away, one.folder, roots), _nothing
            )
        if taken is not None:
            self.leaving(partial(self._take_up, taken))
        elif go_on is not None:
            go_on()

    def _take_up(self, taken: LeftBehind) -> None:
        def read(check: object) -> Taken:
            found, lock, holder = recover(taken.folder), None, ""
            if found.saved_at and Path(found.saved_at).is_dir():
                lock, holder = self._locked(Path(found.saved_at))
            return found, _moved_footage(found.project), lock, holder

        def came(answer: Taken) -> None:
            found, moved, lock, holder = answer
            folder = Path(found.saved_at) if found.saved_at else None
            place = Place(folder, found.fingerprint, lock, str(taken.folder), found.edits, bool(holder))
            self._find_footage(found.project, moved, partial(self._session.begin, place=place, is_saved=False))
            if found.lost:
                words = f"{found.lost} of the last edits could not be read; {found.edits} were taken up."
                self._session.error_shown.emit(words)

        self._session.submit(("take up", taken.folder), Priority.SCREEN, read, came)

    # -- saving ---------------------------------------------------------------------------------------------

    def save(self, saved: Callable[[bool], None] = lambda done: None) -> None:
        """Save the project, asking for a place the first time; what is asked for while it is saved comes after."""
        if self._is_saving:
            self._save_again.append(saved)
            return
        place = self._session.place
        if place.folder is None or place.is_to_look:
            self.save_as(saved)
        else:
            self._write(place, saved)

    def save_as(self, saved: Callable[[bool], None] = lambda done: None) -> None:
        """Save the project under another name."""
        chosen, _ = QFileDialog.getSaveFileName(
            self._window, "Save project", "untitled.gommage", "Gommage projects (*.gommage)"
        )
        if not chosen:
            saved(False)
            return
        folder = Path(chosen).absolute()
        if folder.suffix != store.FOLDER_SUFFIX:
            folder = folder.with_name(folder.name + store.FOLDER_SUFFIX)
        place = self._session.place
        if folder != place.folder:
            place = Place(folder, continues=place.continues, edits=place.edits)
        self._write(place, saved)

    def _write(self, place: Place, saved: Callable[[bool], None], *, is_forced: bool = False) -> None:
        """Save to a place; if somebody else saved or opened what is there, ask."""
        session, folder = self._session, place.folder
        assert folder is not None
        project = session.project
        self._is_saving = True

        def run(check: object) -> Place | str:
            lock = place.lock
            try:
                if lock is not None and not lock.is_mine() and not is_forced:
                    return f"{folder.name} was taken over by another Gommage."
                fingerprint = store.save(project, folder, None if is_forced else place.fingerprint)
                if lock is None or not lock.is_mine():
                    lock = ProjectLock(folder, takes_over=is_forced)
            except ProjectChangedError as error:
                return str(error)
            except ProjectInUseError:
                lock = None  # the next save asks
            if place.continues:
                throw_away(Path(place.continues), session.journal_roots)
            return Place(folder, fingerprint, lock)

        def done(answer: Place | str) -> None:
            self._is_saving = False
            if isinstance(answer, str):
                self._ask_over(answer, place, saved)
                return
            session.mark_saved(project, answer)
            self._note_recent(folder)
            saved(True)
            self._go_on_saving()

        def failed(words: str) -> None:
            self._is_saving = False
            session.error_shown.emit(words)
            saved(False)
            self._go_on_saving()

        session.submit(("save", time.monotonic_ns()), Priority.LONG, run, done, failed)

    def _go_on_saving(self) -> None:
        waiting, self._save_again = self._save_again, []
        for one in waiting:
            self.save(one)

    def _ask_over(self, words: str, place: Place, saved: Callable[[bool], None]) -> None:
        question = f"{words} Saving over it loses what is there."
        answer = ask(self._window, "Not yours alone", question, "Save as…", "Save over it", "Back")
        if answer == "Save as…":
            self.save_as(saved)
        elif answer == "Save over it":
            self._write(place, saved, is_forced=True)
        else:
            waiting, self._save_again = self._save_again, []
            for one in (saved, *waiting):
                one(False)

    # -- leaving --------------------------------------------------------------------------------------------

    def leaving(self, go: Callable[[], object]) -> None:
        """Go on to something else; unsaved work is asked about first, and saved if that is wanted."""
        session = self._session
        has_work = len(session.history.steps) > 1 or bool(session.place.continues)
        if not session.has_unsaved or not session.project.shots or not has_work:
            go()
            return
        words = "This project has changes that are not saved."
        answer = ask(self._window, "Unsaved work", words, "Save", "Leave without", "Back")
        if answer == "Save":
            self.save(lambda is_safe: self._go_if(is_safe, go))
        elif answer == "Leave without":
            go()

    @staticmethod
    def _go_if(is_safe: bool, go: Callable[[], object]) -> None:
        if is_safe:
            go()

    # -- last projects --------------------------------------------------------------------------------------

    def ask_recent(self, show: Callable[[tuple[Recent, ...]], None]) -> None:
        """Read the list of last projects."""
        self._session.submit(("recent",), Priority.IDLE, lambda check: self._recent.read(), show, _nothing)

    def _note_recent(self, folder: Path) -> None:
        session, shot = self._session, self._session.desk.shot(self._session.project)
        frame = session.desk.frame

        def note(check: Callable[[], None]) -> None:
            picture = None
            if shot is not None:
                scale = RECENT_WIDTH / shot.footage.width
                size = RECENT_WIDTH, max(round(shot.footage.height * scale), 1)
                try:
                    request = ViewRequest(shot, frame, Look.PLATE, scaling(scale), size)
                    picture = view_pixels(session.engine, request, check)
                except GommageError:
                    picture = None
            self._recent.note(folder, picture)

        session.submit(("note recent", str(folder)), Priority.IDLE, note, _nothing, _nothing)


def _nothing(_: object) -> None:
    """Take an answer of which nothing is to be said."""


def _thrown_away(folder: Path, roots: tuple[Path, ...], check: object) -> None:
    throw_away(folder, roots)


def _moved_footage(project: Project) -> dict[str, str]:
    """Return the shots whose footage cannot be opened, and why in words."""
    moved = {}
    for shot in project.shots:
        try:
            open_plates(shot.footage)
        except FootageError as error:
            moved[shot.id] = str(error)
    return moved
