"""What a right click on a part of a matte offers."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtWidgets import QMenu

from gommage.app.lists.rows import RowList
from gommage.app.steps.page import Page
from gommage.core.document import Drawn, edits
from gommage.core.document.edits import Slot

__all__ = ["MATTE_ACTIONS", "part_menu"]

SHAPE_ACTIONS = ("duplicate_shape", "copy_shapes", "paste_shapes", "solo_shape", "lock_shape", "own_matte")
MATTE_ACTIONS = (
    "matte_from_file", "alpha_as_part", "add_shared_matte", "tool_scribble", "share_matte", "own_matte",
    "write_matte", "write_matte_parts",
)  # fmt: skip
"""What else than a drawn shape there is for a list of parts."""
COLOURS = (
    ("As its matte's", ""), ("Blue", "#7fb4f0"), ("Green", "#9ad06a"), ("Violet", "#c59af0"), ("White", "#f0f0f0"),
    ("Orange", "#f0a060"),
)  # fmt: skip
"""Lines of shapes that lie on one another are told apart by these."""


def part_menu(page: Page, rows: RowList, part_id: str, slot: Slot, remove: Callable[[Slot], None]) -> QMenu:
    """Return a menu for a part of a list."""
    session = page.session
    shot, fix = session.shot, session.desk.fix(session.project)
    menu = QMenu(page)
    menu.setObjectName("part_menu")
    menu.aboutToHide.connect(menu.deleteLater)
    if shot is None or fix is None:
        return menu
    menu.addAction("Rename", lambda: rows.edit(rows.rows.index_of(part_id)))
    for name in SHAPE_ACTIONS:
        menu.addAction(page.window().actions_by_id[name].text(), partial(page.call, name))  # type: ignore[attr-defined]
    colours = menu.addMenu("Colour of its line")
    for words, colour in COLOURS:
        colours.addAction(words, partial(_paint, page, part_id, colour))
    other = Slot.HOLD_OUTS if slot is Slot.COVER else Slot.COVER
    words = "Hold it out instead" if other is Slot.HOLD_OUTS else "Cover it instead"
    menu.addAction(words, partial(_move_to, page, part_id, fix.id, other))
    if len(shot.fixes) > 1:
        fixes = menu.addMenu("Move to fix")
        for one in shot.fixes:
            if one.id != fix.id:
                fixes.addAction(one.name, partial(_move_to, page, part_id, one.id, slot))
    menu.addSeparator()
    menu.addAction("Remove", lambda: remove(slot))
    return menu


def _paint(page: Page, part_id: str, colour: str) -> None:
    session = page.session
    for part in session.desk.parts(session.project):
        if part.id == part_id and isinstance(part.source, Drawn):
            edit, shape_id = edits.change_shape, part.source.shape.id
            session.commit("Colour of the line", edit, session.desk.shot_id, shape_id, colour=colour)


def _move_to(page: Page, part_id: str, fix_id: str, slot: Slot) -> None:
    shot_id = page.session.desk.shot_id
    page.session.commit("Move shape", edits.move_part_to, shot_id, part_id, holder_id=fix_id, slot=slot)
