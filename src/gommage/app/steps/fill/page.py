"""The Fill step: what the cover is filled from, and the strokes on what is painted."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QWidget

from gommage.app.look.controls import NameLine, choice, pick, push_button, quiet, rule, spaced
from gommage.app.session import Session
from gommage.app.steps.fill.borrow import BorrowCommands, BorrowPart
from gommage.app.steps.fill.commands import FillCommands
from gommage.app.steps.fill.donors import DonorsPart
from gommage.app.steps.fill.picture import PictureCommands, PicturePart
from gommage.app.steps.fill.rim import RimPart
from gommage.app.steps.fill.span import SpanPart
from gommage.app.steps.fill.texture import TextureCommands, TexturePart
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.app.steps.strokes import StrokesPart
from gommage.app.work import Work
from gommage.core.document import (
    Borrow,
    Donors,
    Fix,
    Merged,
    Painted,
    Placed,
    Plates,
    Project,
    Rim,
    Span,
    Texture,
    edits,
)
from gommage.core.engine import Look, State, Step

__all__ = ["FillPage"]

ON_WORDS = {"plate": "A clean plate", "shot": "The shot"}
FROM_WORDS = {
    "fill_from_plates": "Clean plates",
    "fill_from_frames": "Other frames",
    "fill_from_beside": "Beside, or another frame",
    "fill_from_texture": "Texture",
    "fill_from_rim": "The rim",
    "fill_as_span": "Both sides of a line",
    "fill_from_picture": "A picture",
    "lay_near_frame": "Another frame, laid over it",
    "fill_by_strokes": "Strokes alone",
}
"""What a fix is filled from, by the action that makes it so."""
SCALES = {1.0: "As the shot", 2.0: "Twice the shot's", 4.0: "Four times the shot's"}
FILLS: dict[str, type] = {
    "fill_from_plates": Plates,
    "fill_from_frames": Donors,
    "fill_from_beside": Borrow,
    "fill_from_texture": Texture,
    "fill_from_rim": Rim,
    "fill_as_span": Span,
    "fill_from_picture": Placed,
    "fill_by_strokes": Painted,
}


class FillPage(Page):
    """What the cover is filled with."""

    def __init__(self, session: Session, work: Work) -> None:
        self.commands = FillCommands(session, work)
        self.textures = TextureCommands(session, work)
        self.borrowing = BorrowCommands(session)
        self.laying = PictureCommands(session)
        super().__init__(session, work)

    def build(self) -> None:
        self.title = NameLine()
        self.filled_from = choice("Fill from", FROM_WORDS, "Where the new pixels come from")
        self.filled_from.activated.connect(self._on_filled_from)
        from_row = QHBoxLayout()
        from_row.addWidget(QLabel("Fill from"))
        from_row.addWidget(self.filled_from, 1)
        self.donors = DonorsPart(self.session, self.commands, self.call)
        self.rim = RimPart(self.commands)
        self.texture = TexturePart(self.textures, self.call)
        self.span = SpanPart(self.session, self.commands, self.call)
        self.borrow = BorrowPart(self.session, self.borrowing, self.call)
        self.picture = PicturePart(self.session, self.laying, self.call)
        self.kinds: dict[type, Any] = {
            Donors: self.donors,
            Borrow: self.borrow, Texture: self.texture, Rim: self.rim, Span: self.span,
            Placed: self.picture,
        }  # fmt: skip
        self.on = choice("Paint on", ON_WORDS, "On a still that is carried along, or on every frame itself")
        self.on.activated.connect(self._on_paints)
        on_row = QHBoxLayout()
        on_row.addWidget(QLabel("Paint on"))
        on_row.addWidget(self.on, 1)
        self.make_title = quiet("New clean plate of")
        self.make = push_button(
            "This frame", lambda: self.call("new_plate"), primary=True, tip="A still to paint on (Shift+C)"
        )
        self.merge = push_button(
            "Merged",
            lambda: self.call("merged_plate"),
            tip="Of all frames, or the marked ones, without the thing (Alt+M)",
        )
        self.load = push_button(
            "Picture…", lambda: self.call("plate_from_picture"), tip="A clean plate painted elsewhere"
        )
        self.scale = choice("Resolution", SCALES, "Finer than the shot, where frames are nearer")
        self.scale.activated.connect(lambda: self.commands.merged_scale(self.scale.currentData()))
        self.scale_row = QWidget()
        scale_row = QHBoxLayout(self.scale_row)
        scale_row.setContentsMargins(0, 0, 0, 0)
        scale_row.addWidget(QLabel("Resolution"))
        scale_row.addWidget(self.scale, 1)
        self.rest = QCheckBox("Close what no frame shows")
        self.rest.setAccessibleName("Close what no frame shows")
        self.rest.setToolTip("With matching pieces of the plate; what is painted comes on top")
        self.rest.toggled.connect(lambda on: self.commands.close_rest(0 if on else None))
        self.other_rest = push_button("Another proposal", self._on_other_rest, tip="Closed in another way")
        self.part = StrokesPart(self.session)
        self.box.addWidget(self.title)
        self.box.addLayout(from_row)
        for kind in self.kinds.values():
            self.box.addWidget(kind)
        self.box.addLayout(on_row)
        self.box.addWidget(self.make_title)
        self.box.addLayout(spaced(self.make, self.merge, self.load))
        self.box.addWidget(self.scale_row)
        self.box.addLayout(spaced(self.rest, self.other_rest))
        self.box.addWidget(rule())
        self.box.addWidget(self.part)

    # -- intents --------------------------------------------------------------------------------------------

    def _on_filled_from(self) -> None:
        self.call(self.filled_from.currentData())
        fix = self.session.desk.fix(self.session.project)  # it may have been called off, or be on its way still
        pick(self.filled_from, _action_of(fix.fill if fix is not None else None))

    def _on_paints(self) -> None:
        desk = self.session.desk
        if self.on.currentData() == "shot":
            self.call("paint_on_shot")
        else:
            look = Look.CLEAN_PLATE if desk.plate(self.session.project) is not None else Look.RESULT
            self.session.set_desk(paints_shot=False, stroke_ids=(), look=look)

    # -- showing --------------------------------------------------------------------------------------------

    def watched(self, hand: InHand) -> tuple[Any, ...]:
        desk = self.session.desk
        return (*super().watched(hand), desk.marked, desk.look, *self.part.watched(desk))

    def show_hand(self, hand: InHand) -> None:
        desk, plate, fix = self.session.desk, hand.plate, hand.fix
        on_shot = desk.paints_shot
        fill = fix.fill if fix is not None else None
        self.filled_from.setEnabled(fix is not None)
        pick(self.filled_from, _action_of(fill))
        for kind, part in self.kinds.items():
            part.setVisible(isinstance(fill, kind))
            if isinstance(fill, kind) and fix is not None:
                part.show_fill(hand.shot, fix, fill, desk)
        is_whole = isinstance(fill, tuple(self.kinds))
        pick(self.on, "shot" if on_shot else "plate")
        if on_shot or is_whole:
            self.title.setText(fix.name if fix is not None else "No fix in hand")
        else:
            self.title.setText(plate.name if plate is not None else "No clean plate yet")
        known = self.session.surface_summary(hand.surface.id) if hand.surface is not None else None
        can_make = known is not None and known.row(desk.frame) is not None
        for widget in (self.make_title, self.make, self.merge, self.load):
            widget.setVisible(not on_shot and not is_whole)
            widget.setEnabled(can_make)
        self.merge.setEnabled(known is not None and known.is_known and not self.work.is_busy)
        is_merged = plate is not None and isinstance(plate.base, Merged)
        self.scale_row.setVisible(is_merged and not on_shot)
        self.rest.setVisible(is_merged and not on_shot)
        self.other_rest.setVisible(is_merged and not on_shot and plate is not None and plate.rest is not None)
        with QSignalBlocker(self.rest):
            self.rest.setChecked(plate is not None and plate.rest is not None)
        self.scale.setEnabled(not self.work.is_busy)
        if plate is not None and is_merged:
            pick(self.scale, plate.scale)
        if self.make.property("primary") != (plate is None):
            self.make.setProperty("primary", plate is None)
            self.make.style().polish(self.make)
        self.part.setVisible(on_shot or not is_whole)  # those of a clean plate make nothing of other fills
        self.part.show_strokes(desk, self.session.shown)

    def advise(self, hand: InHand) -> Advised:
        fix, plate = hand.fix, hand.plate
        if fix is not None and isinstance(fix.fill, Donors) and not fix.touch_up.strokes:
            return self._advise_donors(fix)
        if (
            fix is not None
            and isinstance(fix.fill, Borrow | Placed | Rim | Span | Texture)
            and not fix.touch_up.strokes
        ):
            return self._advise_by_itself(fix)
        if self.session.desk.paints_shot:
            return self._advise_on_shot(fix)
        known = self.session.surface_summary(hand.surface.id) if hand.surface is not None else None
        if hand.surface is None or (known is not None and not known.is_known):
            words = "A clean plate lies on a followed surface, and there is none yet."
            return Advised(words, "Go to Follow", "step_follow")
        if plate is None:
            return Advised(
                "Go to a frame where the surroundings of the thing are seen well, and make a clean plate of it.",
                "Make it of this frame", "new_plate", is_urgent=False,
            )  # fmt: skip
        if fix is None:
            return Advised(
                "There is no fix in hand yet: cover the thing.", "Go to Cover", "step_cover", is_urgent=False
            )
        if isinstance(fix.fill, Plates) and plate.id not in fix.fill.plate_ids:
            return Advised(f"{fix.name} is not filled from this plate.", "Use it", self._use)
        advice = self.state_of(fix, Step.FILL)
        return next_step(Step.FILL, "Filled.") if advice.state is not State.LOOK else Advised(advice.words)

    def _advise_by_itself(self, fix: Fix) -> Advised:
        advice = self.state_of(fix, Step.FILL)
        if not fix.cover.parts:
            return Advised("Cover it first; then this closes it.", "Go to Cover", "step_cover")
        return next_step(Step.FILL, advice.words)

    def _advise_donors(self, fix: Fix) -> Advised:
        if not fix.cover.parts:
            return Advised("Cover the thing first; then other frames can show what it hides.", "Go to Cover",
                           "step_cover")  # fmt: skip
        advice = self.state_of(fix, Step.FILL)
        if advice.state is State.NOT_BEGUN:
            return Advised(advice.words)
        if advice.state is State.LOOK:
            if isinstance(fix.fill, Donors) and fix.fill.rest_plate_ids:
                return Advised(advice.words, "Paint it", self._paint_rest)
            return Advised(advice.words, "Clean plate for the rest", "plate_for_rest")
        return next_step(Step.FILL, advice.words or "Filled from other frames, in place, light and grain.")

    def _advise_on_shot(self, fix: Fix | None) -> Advised:
        if fix is None:
            return Advised("Strokes belong to a fix, and none is in hand.", "Paint on the shot", "paint_on_shot")
        if not fix.touch_up.strokes:
            return Advised(
                "Paint over the thing. Pixels come from beside (Alt-click), or from another frame: set it above.",
                is_urgent=False,
            )
        if not fix.cover.parts:
            return Advised("Step through the frames on which the strokes live.", "Go to Check", "step_check",
                           is_urgent=False)  # fmt: skip
        advice = self.state_of(fix, Step.FILL)
        return next_step(Step.FILL, "Filled.") if advice.state is not State.LOOK else Advised(advice.words)

    def _paint_rest(self) -> None:
        """Put the plate of the rest in sight, with a brush in the hand."""
        desk, fix = self.session.desk, self.session.desk.fix(self.session.project)
        if fix is not None and isinstance(fix.fill, Donors) and fix.fill.rest_plate_ids:
            plate_id = fix.fill.rest_plate_ids[0]
            self.session.set_desk(plate_id=plate_id, paints_shot=False, look=Look.CLEAN_PLATE,
                                  **desk.with_brush("clone"))  # fmt: skip

    def _on_other_rest(self) -> None:
        plate = self.session.desk.plate(self.session.project)
        if plate is not None and plate.rest is not None:
            self.commands.close_rest(plate.rest.proposal + 1)

    def _use(self) -> None:
        desk = self.session.desk

        def edit(project: Project) -> Project:
            fill = project.shot(desk.shot_id).fix(desk.fix_id).fill
            ids = fill.plate_ids if isinstance(fill, Plates) else ()
            return edits.change_fix(project, desk.shot_id, desk.fix_id, fill=Plates(plate_ids=(*ids, desk.plate_id)))

        self.session.commit("Fill from plate", edit)


def _action_of(fill: object) -> str:
    """Return the action that fills so."""
    if isinstance(fill, Placed) and fill.footage is None:
        return "lay_near_frame"
    return next((name for name, kind in FILLS.items() if isinstance(fill, kind)), "")
