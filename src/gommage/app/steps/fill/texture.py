"""Filling with texture in the panel, and what is done there."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.look.controls import push_button, quiet, spaced
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.cover import matte_on, reach_of
from gommage.core.document import Combine, Fix, Matte, Project, Shot, Texture, edits, mappings_of
from gommage.core.document.edits import Slot
from gommage.core.engine import Look, Step
from gommage.core.fill import home_of_texture

__all__ = ["TextureCommands", "TexturePart"]


class TextureCommands:
    """What is done with texture: begun, proposed anew, told where to take from."""

    def __init__(self, session: Session, work: Work) -> None:
        self._session, self._work = session, work
        self.next_proposal: Callable[[], bool] = lambda: False

    def _found(self) -> tuple[Shot, Fix] | None:
        shot, fix = self._session.shot, self._session.desk.fix(self._session.project)
        return None if shot is None or fix is None else (shot, fix)

    def fill_from_texture(self) -> None:
        """Close the cover with matching pieces of this frame, and carry that along."""
        found = self._found()
        if found is None or isinstance(found[1].fill, Texture):
            return
        shot, fix = found
        frame = self._session.desk.frame
        is_seen = not fix.surface_id or mappings_of(shot)(fix.surface_id, frame) is not None
        self._close(f"Fill {fix.name} with texture", Texture(home_frame=frame if is_seen else None))

    def close_with(self, fill: Texture) -> None:
        """Fill with texture as it is told."""
        found = self._found()
        if found is not None:
            self._close(f"Fill {found[1].name} with texture", fill)

    def another_proposal(self) -> None:
        """Propose something else: the next fill that is proposed, or the other way to begin, then other chances."""
        found = self._found()
        if self.next_proposal():
            return
        if found is not None and isinstance(found[1].fill, Texture):
            fill = found[1].fill
            self._close(f"Proposal {fill.proposal + 2}", replace(fill, proposal=fill.proposal + 1))

    def proposal_before(self) -> None:
        """Go back to the proposal before."""
        found = self._found()
        if found is not None and isinstance(found[1].fill, Texture) and found[1].fill.proposal:
            self._close(
                f"Proposal {found[1].fill.proposal}", replace(found[1].fill, proposal=found[1].fill.proposal - 1)
            )

    def texture_of_this_frame(self) -> None:
        """Take the pieces from the frame on the desk."""
        self._change("Texture of this frame", home_frame=self._session.desk.frame)

    def square_on_texture(self, is_on: bool) -> None:
        """Match pieces on the surface without perspective, or as they lie in the picture."""
        self._change("Texture without perspective" if is_on else "Texture as it lies", is_square_on=is_on)

    def take_from_anywhere(self) -> None:
        """Forget where pieces may be taken from."""
        self._change("Take from anywhere", take_from=Matte())

    def draw_guide(self) -> None:
        """Draw a line that must go through."""
        self._session.set_desk(tool="draw", slot=Slot.GUIDES, draws_open=True, draws_by="points", step=Step.FILL,
                               draws_wire=False)  # fmt: skip

    def draw_take_from(self) -> None:
        """Draw round what pieces may be taken from."""
        self._session.set_desk(tool="draw", slot=Slot.TAKE_FROM, draws_open=False, combine=Combine.ADD, step=Step.FILL,
                               draws_wire=False)  # fmt: skip

    def draw_not_from(self) -> None:
        """Draw round what no pieces may be taken from."""
        self._session.set_desk(
            tool="draw",
            slot=Slot.TAKE_FROM,
            draws_open=False,
            combine=Combine.SUBTRACT,
            step=Step.FILL,
            draws_wire=False,
        )

    def edit_guides(self) -> None:
        """Take guides and areas into the hand."""
        self._session.set_desk(tool="edit", slot=Slot.GUIDES, step=Step.FILL)

    def _change(self, label: str, **fields: object) -> None:
        found = self._found()
        if found is not None and isinstance(found[1].fill, Texture):
            fill = replace(found[1].fill, **fields)
            if fill != found[1].fill:
                self._close(label, fill)

    def _close(self, label: str, fill: Texture) -> None:
        """Fill with texture: a first look is shown as soon as there is one, then all of it is done as one step."""
        session, found = self._session, self._found()
        assert found is not None
        shot, fix = found
        home = home_of_texture(fill, shot, fix)
        if reach_of(matte_on(shot, fix.cover, home), shot.footage.bounds).is_empty:
            session.error_shown.emit(f"Nothing is covered on frame {home} yet. Cover the thing first.")
            return
        words = f"Closing {fix.name}"

        def filled(project: Project, is_draft: bool = False) -> Project:
            return edits.change_fix(project, shot.id, fix.id, fill=replace(fill, is_draft=is_draft))

        def run(check: Callable[[], None]) -> None:
            for is_draft, tell in ((True, lambda share: None), (False, partial(self._work.tell_later, words))):
                there = filled(session.project, is_draft).shot(shot.id)
                session.engine.close(there, there.fix(fix.id), home, check, tell)
                if is_draft:
                    session.later(partial(session.preview, "closing", partial(filled, is_draft=True)))

        def returned(_: None) -> None:
            session.commit_preview("closing", label, filled)
            session.note_shown.emit(f"{label}: closed with pieces of frame {home}. Another proposal with J.")

        if self._work.run(words, "texture", run, returned):
            session.set_desk(step=Step.FILL, tool="hand", look=Look.RESULT)


class TexturePart(QWidget):
    """What a fill with texture may be told."""

    def __init__(self, commands: TextureCommands, call: Callable[[str], None]) -> None:
        super().__init__()
        self.told = quiet(name="Texture")
        self.another = push_button("Another proposal", partial(call, "another_proposal"), tip="Something else (J)")
        self.before = push_button("The one before", partial(call, "proposal_before"), tip="Back (Shift+J)")
        self.home = push_button("Of this frame", commands.texture_of_this_frame, tip="Take the pieces from this frame")
        self.guide = push_button("Guide line", commands.draw_guide, tip="An edge that must go through the hole")
        self.edit = push_button("Edit lines", commands.edit_guides, tip="Drag the points of guides and areas")
        self.take = push_button("Take from…", commands.draw_take_from, tip="Draw round what pieces may come from")
        self.leave = push_button("Not from…", commands.draw_not_from, tip="Draw round what no piece may come from")
        self.anywhere = push_button("Anywhere", commands.take_from_anywhere, tip="Forget these areas")
        self.square = QCheckBox("Without perspective")
        self.square.setAccessibleName("Without perspective")
        self.square.setToolTip("Pieces are matched on the surface seen square-on, so that sizes stay right")
        self.square.toggled.connect(commands.square_on_texture)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        box.addWidget(self.told)
        box.addLayout(spaced(self.another, self.before))
        box.addLayout(spaced(self.guide, self.edit))
        box.addLayout(spaced(self.take, self.leave, self.anywhere))
        box.addLayout(spaced(self.square, self.home))

    def show_fill(self, shot: Shot, fix: Fix, fill: Texture, desk: Desk) -> None:
        """Show a fill as it is."""
        home = home_of_texture(fill, shot, fix)
        number = f", proposal {fill.proposal + 1}" if fill.proposal else ""
        self.told.setText(f"Closed with matching pieces of frame {home}{number}, carried along")
        self.before.setEnabled(fill.proposal != 0)
        self.home.setEnabled(desk.frame != home)
        self.anywhere.setEnabled(bool(fill.take_from.parts))
        self.edit.setEnabled(bool(fill.guides.parts or fill.take_from.parts))
        self.square.setVisible(bool(fix.surface_id))
        with QSignalBlocker(self.square):
            self.square.setChecked(fill.is_square_on)
