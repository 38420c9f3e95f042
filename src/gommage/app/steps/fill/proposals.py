"""A first proposal for a fresh cover: shown in the picture at once, taken or changed for the next by a key."""

from __future__ import annotations

from functools import partial

from msgspec.structs import replace

from gommage.app.session import Session
from gommage.app.steps.fill.texture import TextureCommands
from gommage.app.work import Work
from gommage.core.document import Borrow, Fix, Place, Plates, Project, Shot, Texture, edits
from gommage.core.document.records import Fill
from gommage.core.engine import FoundPlace, Priority, Proposal, Step, first_look, found_places, proposed_fills

__all__ = ["ProposalCommands"]


class ProposalCommands:
    """What is done with proposals."""

    def __init__(self, session: Session, work: Work, textures: TextureCommands) -> None:
        self._session, self._work, self._textures = session, work, textures
        self._proposals: tuple[Proposal, ...] = ()
        self._of: tuple[str, str] = ("", "")
        self._fix: Fix | None = None
        session.document_changed.connect(lambda old, new: self._look_again())
        session.desk_changed.connect(lambda old, new: self._look_again())

    def _look_again(self) -> None:
        """Drop what is proposed for what is no more: another fix, another fill; propose anew for another cover."""
        if self._session.desk.proposed is None or self._fix is None:
            return
        found = self._found()
        if found is not None and found[1] is self._fix:
            return
        before, self._fix = self._fix, None
        self.drop_proposal()
        if found is not None and found[1].id == before.id and found[1].cover != before.cover and _is_fresh(found[1]):
            self._ask(*found)

    def _found(self) -> tuple[Shot, Fix] | None:
        shot, fix = self._session.shot, self._session.desk.fix(self._session.project)
        return None if shot is None or fix is None else (shot, fix)

    def propose_fill(self) -> None:
        """Look at a fresh cover, and show what should fill it best; a fix that is filled already is left alone."""
        found = self._found()
        if found is None or found[1].touch_up.strokes or not _is_fresh(found[1]):
            return
        self._ask(*found)

    def propose_again(self) -> None:
        """Propose what the cover in hand could be filled from, whatever it is filled from now."""
        found = self._found()
        if found is not None:
            self._ask(*found)

    def _ask(self, shot: Shot, fix: Fix) -> None:
        frame, engine = self._session.desk.frame, self._session.engine
        self._session.submit(
            ("propose", shot.id, fix.id), Priority.SCREEN,
            lambda check: proposed_fills(engine, shot, fix, frame, check), partial(self._came, fix),
            lambda words: None,
        )  # fmt: skip

    def _came(self, fix: Fix, proposals: tuple[Proposal, ...]) -> None:
        """Show the first proposal, unless the fix was changed or left meanwhile."""
        found = self._found()
        if proposals and found is not None and found[1] is fix:
            self._proposals, self._of, self._fix = proposals, (found[0].id, fix.id), fix
            self._show(0)

    def _show(self, number: int) -> None:
        """Show one of the proposals, not done yet."""
        proposal = self._proposals[number]
        if proposal.fill == Borrow():
            self._find_place(number, proposal)
        self._session.preview("fill", partial(self._filled, proposal.fill, True))
        self._session.set_desk(proposed=number, proposed_why=proposal.why)
        self._finish_look(number)

    def _filled(self, fill: Fill, is_first: bool, project: Project) -> Project:
        """Return a project with the fix filled as is proposed; at first so that it is seen soon."""
        shot_id, fix_id = self._of
        if not is_first:
            return edits.change_fix(project, shot_id, fix_id, fill=fill)
        look = first_look(project.shot(shot_id).fix(fix_id), fill)
        return edits.change_fix(project, shot_id, fix_id, fill=look.fill, match=look.match)

    def _finish_look(self, number: int) -> None:
        """Match what is shown of a proposal as it will be, once that is made; texture is closed in full when taken."""
        session, fill = self._session, self._proposals[number].fill
        if isinstance(fill, Texture):
            fill = replace(fill, is_draft=True)
        whole, frame, engine = partial(self._filled, fill, False), session.desk.frame, session.engine
        (shot_id, _), of = self._of, self._of
        shot = whole(session.project).shot(shot_id)

        def returned(_: object) -> None:
            if session.desk.proposed == number and self._of == of:
                session.preview("fill", whole)

        session.submit(
            ("proposed look", *of), Priority.IDLE, lambda check: engine.all_patches(shot, frame, check=check), returned,
            lambda words: None,
        )  # fmt: skip

    def _find_place(self, number: int, proposal: Proposal) -> None:
        """Find out where a cover is best borrowed from, and show that."""
        found, session, of = self._found(), self._session, self._of
        if found is None:
            return
        (shot, fix), frame, engine = found, session.desk.frame, session.engine

        def came(places: tuple[FoundPlace, ...]) -> None:
            if places and session.desk.proposed == number and self._of == of:
                fill = Borrow(places=(places[0].place,))
                ones = list(self._proposals)
                ones[number] = Proposal(fill, proposal.why)
                self._proposals = tuple(ones)
                self._show(number)

        session.submit(
            ("proposed place", *of), Priority.SCREEN,
            lambda check: found_places(engine, shot, fix, "", Place(), frame, check), came, lambda words: None,
        )  # fmt: skip

    def next_proposal(self) -> bool:
        """Show the next proposal; returns whether any is shown."""
        if self._session.desk.proposed is None or not self._proposals:
            return False
        self._show((self._session.desk.proposed + 1) % len(self._proposals))
        return True

    def take_fill(self) -> None:
        """Fill as it is proposed."""
        number, (shot_id, fix_id) = self._session.desk.proposed, self._of
        if number is None or not 0 <= number < len(self._proposals):
            return
        fill = self._proposals[number].fill
        self.drop_proposal()
        if isinstance(fill, Texture):
            self._textures.close_with(fill)
        elif self._session.commit("Fill as proposed", edits.change_fix, shot_id, fix_id, fill=fill):
            self._session.set_desk(step=Step.FILL, tool="hand")

    def drop_proposal(self) -> None:
        """Leave it as it was."""
        self._session.preview("fill", None)
        self._session.set_desk(proposed=None, proposed_why="")


def _is_fresh(fix: Fix) -> bool:
    """Return whether nobody has said what a fix is filled from."""
    return isinstance(fix.fill, Plates) and not fix.fill.plate_ids
