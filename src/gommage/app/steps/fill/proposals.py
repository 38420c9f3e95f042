"""A first proposal for a fresh cover: shown in the picture at once, taken or changed for the next by a key."""

from __future__ import annotations

from functools import partial

from msgspec.structs import replace

from gommage.app.session import Session
from gommage.app.steps.fill.texture import TextureCommands
from gommage.app.work import Work
from gommage.core.document import Fix, Plates, Project, Shot, Texture, edits
from gommage.core.document.records import Fill
from gommage.core.engine import Priority, Proposal, Step, proposed_fills

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
        shot_id, fix_id = self._of
        proposal = self._proposals[number]
        fill: Fill = proposal.fill
        if isinstance(fill, Texture):  # a first look; it is closed in full when it is taken
            fill = replace(fill, is_draft=True)

        def filled(project: Project) -> Project:
            return edits.change_fix(project, shot_id, fix_id, fill=fill)

        self._session.preview("fill", filled)
        self._session.set_desk(proposed=number, proposed_why=proposal.why)

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
