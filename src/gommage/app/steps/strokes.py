"""The strokes of what is painted on: their list with its filters, groups, and what is changed of those chosen."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache, partial
from typing import Any

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QMenu, QVBoxLayout, QWidget

from gommage.app.brush_form import BrushForm
from gommage.app.desk import Desk, Life, Lists
from gommage.app.hands.next_stroke import LIFE_WORDS, frames_of
from gommage.app.hands.strokes import is_dot, ridden
from gommage.app.lists.rows import LineDelegate, Row, RowList
from gommage.app.lists.summaries import life_words
from gommage.app.look.controls import DragNumber, Section, ValueRow, choice, heading, pick, quiet, rule, tool_button
from gommage.app.picture.stage import Stage
from gommage.app.session import Session
from gommage.core.document import (
    Brush,
    Frames,
    Group,
    Keys,
    Painting,
    Project,
    Shot,
    Stroke,
    edits,
    is_within,
    value_at,
    with_key,
)

__all__ = ["StrokesPart"]

MOST_STROKES, MOST_GROUPS = 7, 3
CHANGE_WORDS: dict[str, str] = {"": "Frames…", **{str(life): words for life, words in LIFE_WORDS.items()}}
LISTS_WORDS = {
    Lists.ALL: "All",
    Lists.FRAME: "On this frame",
    Lists.PEN: "Under the pen",
    Lists.TOOL: "Of this brush",
    Lists.DOTS: "Dots",
}
LISTS_TIP = "Which strokes are listed; dots are mere touches, mostly accidental ones"
CHOSEN_ACTIONS = (
    "switch_strokes", "lock_strokes", "duplicate_strokes", "redraw_stroke", "raise_strokes", "lower_strokes", "",
    "group_strokes", "ungroup_strokes", "", "repeat_on_next", "repeat_on_previous", "", "remove_strokes",
)  # fmt: skip
PICTURE = "the picture"
NUMBERS = (
    ("Size", "size_px", 1, 400, "px", 1.0, False), ("Soft", "softness", 0, 100, "%", 100.0, True),
    ("Opacity", "opacity", 0, 100, "%", 100.0, True), ("Flow", "flow", 1, 100, "%", 100.0, True),
    ("Source x", "dx", -9999, 9999, "px", 1.0, True), ("Source y", "dy", -9999, 9999, "px", 1.0, True),
)  # fmt: skip
"""What is changed of the chosen strokes by numbers: words, field, range, unit, and what one of the field is."""
BRUSH_FIELDS = Brush.__struct_fields__


class StrokesPart(QWidget):
    """A list of strokes, one of groups, and rows for those that are chosen."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.title = heading("Strokes")
        self.lists = choice("Strokes listed", LISTS_WORDS, LISTS_TIP)
        self.lists.activated.connect(lambda: session.set_desk(lists=Lists(self.lists.currentData()), under_pen=()))
        self.remove = tool_button("trash-2", "Remove strokes", tip="Remove the chosen strokes (Delete)")
        self.remove.clicked.connect(lambda: self._call("remove_strokes"))
        head = QHBoxLayout()
        head.addWidget(self.title, 1)
        head.addWidget(self.lists)
        head.addWidget(self.remove)
        self._delegate = LineDelegate()
        self.strokes = RowList("Strokes", self._delegate, most_rows=MOST_STROKES, can_move=True, takes_many=True)
        self.strokes.chosen.connect(lambda _, all_ids: session.set_desk(stroke_ids=all_ids))
        self.strokes.menu_asked.connect(self._on_menu)
        self.strokes.rows.moved.connect(self._on_moved)
        self.groups_title = heading("Groups")
        self.groups = RowList("Groups", self._delegate, most_rows=MOST_GROUPS, can_rename=True)
        self.groups.chosen.connect(lambda group_id, _: self._choose_group(group_id))
        self.groups.rows.renamed.connect(lambda group_id, name: self._change_group("Rename group", group_id, name=name))
        self.groups.menu_asked.connect(self._on_group_menu)
        self.note = quiet(name="Strokes, in short")
        column.addLayout(head)
        for widget in (self.strokes, self.groups_title, self.groups, self.note, rule()):
            column.addWidget(widget)
        self._build_chosen(column)

    def _build_chosen(self, column: QVBoxLayout) -> None:
        self.chosen_title = heading("")
        self._numbers: dict[str, tuple[DragNumber, float]] = {}
        grid = QGridLayout()
        grid.setSpacing(6)
        for place, (words, field, low, high, unit, share, is_even) in enumerate(NUMBERS):
            number = DragNumber(f"{words} of the chosen strokes", low, high, unit, is_even=is_even)
            number.number_changed.connect(partial(self._on_value, field, share))
            self._numbers[field] = number, share
            line, side = divmod(place, 2)
            grid.addWidget(QLabel(words), line, 2 * side)
            grid.addWidget(number, line, 2 * side + 1)
        self._grid = QWidget()
        grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setLayout(grid)
        self.fade = ValueRow("Fade group", 0, 100, "%", tip="How much of the whole group is laid")
        self.life = choice("Frames of the chosen strokes", CHANGE_WORDS, "For which frames they live")
        self.life.activated.connect(self._on_life)
        self.rides = choice("Chosen strokes ride on", {}, "What carries them; they stay where they are on this frame")
        self.rides.activated.connect(self._on_rides)
        self._life_row = QWidget()
        row = QHBoxLayout(self._life_row)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.life, 1)
        row.addWidget(QLabel("on"))
        row.addWidget(self.rides, 1)
        self.form = BrushForm("the chosen strokes")
        self.form.brush_changed.connect(lambda fields, is_final: self._change(is_final, edits.change_brush, **fields))
        self.form.source_changed.connect(
            lambda fields, is_final: self._change(is_final, edits.change_sources, **fields)
        )
        self.more = Section("More of them", is_folded=True)
        self.more.box.addWidget(self.form)
        self._of_chosen = (self.chosen_title, self._grid, self._life_row, self.fade, self.more)
        for widget in self._of_chosen:
            column.addWidget(widget)
        self.fade.value_changed.connect(self._on_fade)

    # -- intents --------------------------------------------------------------------------------------------

    def _call(self, name: str) -> None:
        self.window().call(name)  # type: ignore[attr-defined]

    def _on_value(self, field: str, unit: float, value: float, is_final: bool) -> None:
        """Change the chosen strokes, all alike."""
        edit = edits.change_brush if field in BRUSH_FIELDS else edits.change_sources
        self._change(is_final, edit, **{field: value / unit})

    def _on_life(self) -> None:
        desk, chosen = self._session.desk, self.life.currentData()
        if chosen:
            self._change(True, edits.change_strokes, frames=frames_of(replace(desk, life=Life(chosen))))

    def _on_rides(self) -> None:
        stage: Stage = self.window().stage  # type: ignore[attr-defined]
        stage.do(ridden(stage.ground(), self.rides.currentData() or ""))

    def _on_fade(self, value: float, is_final: bool) -> None:
        group = self._group()
        if group is not None:
            frame, share = self._session.desk.frame, value / 100
            opacity = with_key(group.opacity, frame, share) if isinstance(group.opacity, Keys) else share
            self._change_group("Fade group", group.id, is_final, opacity=opacity)

    def _key_fade(self, group: Group) -> None:
        """Let the fade change over time from now on, with a key on this frame; or let it rest as it is here."""
        frame = self._session.desk.frame
        value = value_at(group.opacity, frame)
        opacity = value if isinstance(group.opacity, Keys) else with_key(group.opacity, frame, value)
        self._change_group("Key the fade", group.id, opacity=opacity)

    def _change(self, is_final: bool, edit: Any, **fields: Any) -> None:
        desk = self._session.desk
        holder_id, _ = desk.painting(self._session.project)
        if desk.stroke_ids and holder_id:
            label = "Change stroke" if len(desk.stroke_ids) == 1 else f"Change {len(desk.stroke_ids)} strokes"
            self._session.commit_while(label, is_final, edit, desk.shot_id, holder_id, desk.stroke_ids, **fields)

    def _change_group(self, label: str, group_id: str, is_final: bool = True, **fields: Any) -> None:
        desk = self._session.desk
        holder_id, _ = desk.painting(self._session.project)
        commit = self._session.commit_while
        commit(label, is_final, edits.change_group, desk.shot_id, holder_id, group_id, **fields)

    def _choose_group(self, group_id: str) -> None:
        _, painting = self._session.desk.painting(self._session.project)
        ids = tuple(stroke.id for stroke in painting.strokes if stroke.group_id == group_id)
        self._session.set_desk(stroke_ids=ids)

    def _on_moved(self, stroke_id: str, row: int) -> None:
        """Lay a stroke elsewhere in the order: the list shows what is laid last on top."""
        desk = self._session.desk
        holder_id, painting = desk.painting(self._session.project)
        shown = self.strokes.rows.ids()
        order = [stroke.id for stroke in painting.strokes]
        below = shown[row] if row < len(shown) else None
        index = order.index(below) + 1 if below is not None else 0
        if order.index(stroke_id) < index:
            index -= 1
        self._session.commit("Move stroke", edits.move_stroke, desk.shot_id, holder_id, stroke_id, index)

    def _on_menu(self, stroke_id: str, at: QPoint) -> None:
        menu, actions = self._menu(), self.window().actions_by_id  # type: ignore[attr-defined]
        for name in CHOSEN_ACTIONS:
            if name:
                menu.addAction(actions[name])
            else:
                menu.addSeparator()
        menu.popup(at)

    def _on_group_menu(self, group_id: str, at: QPoint) -> None:
        desk = self._session.desk
        group = _found(desk.painting(self._session.project)[1], group_id)
        if group is None:
            return
        menu = self._menu()
        menu.addAction("Rename", lambda: self.groups.edit(self.groups.rows.index_of(group_id)))
        words = "Switch off" if group.is_on else "Switch on"
        menu.addAction(words, partial(self._change_group, words, group_id, is_on=not group.is_on))
        keyed = isinstance(group.opacity, Keys)
        menu.addAction("Fade: no more keys" if keyed else "Fade: key it here", partial(self._key_fade, group))
        frames = menu.addMenu("Frames")
        for life, name in LIFE_WORDS.items():
            those: tuple[Frames, ...] = frames_of(replace(desk, life=life))
            frames.addAction(name, partial(self._change_group, "Frames of a group", group_id, frames=those))
        menu.addAction("Ungroup", partial(self._call, "ungroup_strokes"))
        menu.popup(at)

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        menu.setObjectName("strokes_menu")
        menu.aboutToHide.connect(menu.deleteLater)
        return menu

    # -- showing --------------------------------------------------------------------------------------------

    @staticmethod
    def watched(desk: Desk) -> tuple[Any, ...]:
        """Return what of the desk it shows."""
        return desk.stroke_ids, desk.paints_shot, desk.lists, desk.under_pen, desk.fix_id, desk.plate_id, desk.tool

    def show_strokes(self, desk: Desk, project: Project) -> None:
        """Show the strokes, and what is chosen of them."""
        _, painting = desk.painting(project)
        numbered = [one for one in enumerate(painting.strokes, 1) if _is_listed(one[1], desk)]
        names = {group.id: group.name for group in painting.groups}
        self.strokes.rows.set_rows(tuple(_row(number, one, desk, names) for number, one in reversed(numbered)))
        pick(self.lists, desk.lists)
        total = len(painting.strokes)
        self.title.setText(f"Strokes ({len(numbered)} of {total})" if len(numbered) < total else f"Strokes ({total})")
        self._show_groups(painting, desk)
        self._show_chosen(desk, project, painting)

    def _show_groups(self, painting: Painting, desk: Desk) -> None:
        for widget in (self.groups_title, self.groups):
            widget.setVisible(bool(painting.groups))
        rows = []
        for group in painting.groups:
            count = sum(stroke.group_id == group.id for stroke in painting.strokes)
            fade = value_at(group.opacity, desk.frame)
            is_keyed = isinstance(group.opacity, Keys)
            shown = f", {fade:.0%}" + (" keyed" if is_keyed else "") if fade < 1 or is_keyed else ""
            detail = f"{count}, {life_words(group.frames)}{shown}"
            rows.append(Row(group.id, group.name, detail, group.is_on))
        self.groups.rows.set_rows(tuple(rows))

    def _show_chosen(self, desk: Desk, project: Project, painting: Painting) -> None:
        chosen = desk.strokes(project)
        first, *others = [stroke.id for stroke in chosen] or [""]
        self.strokes.select(first, tuple(others))
        group = self._group()
        self.groups.select(group.id if group is not None else "")
        self.remove.setEnabled(bool(chosen))
        for widget in self._of_chosen:
            widget.setVisible(bool(chosen))
        self._life_row.setVisible(bool(chosen) and desk.paints_shot)
        self.fade.setVisible(group is not None)
        pick(self.life, "")
        self.note.setVisible(not chosen)
        words = "Touch strokes in the picture (X), or choose them here." if painting.strokes else "Nothing painted yet."
        self.note.setText(words)
        if not chosen:
            return
        count = f"{len(chosen)} strokes chosen" if len(chosen) > 1 else "Stroke chosen"
        self.chosen_title.setText(f"{group.name if group is not None else count} (Esc lets go)")
        brush = chosen[0].brush
        for field, (number, share) in self._numbers.items():
            of = brush if hasattr(brush, field) else chosen[0].source
            number.set_value(getattr(of, field) * share)
        self.form.show_brush(brush, chosen[0].source, desk.shot(project), desk.fix_id if desk.paints_shot else "")
        if group is not None:
            self.fade.set_value(value_at(group.opacity, desk.frame) * 100)
        shot = desk.shot(project)
        if shot is not None:
            self._show_surfaces(shot, chosen[0].surface_id)

    def _show_surfaces(self, shot: Shot, surface_id: str) -> None:
        wanted = [("", PICTURE), *((surface.id, surface.name) for surface in shot.surfaces)]
        if wanted != [(self.rides.itemData(row), self.rides.itemText(row)) for row in range(self.rides.count())]:
            self.rides.clear()
            for one, name in wanted:
                self.rides.addItem(name, one)
        pick(self.rides, surface_id)

    def _group(self) -> Group | None:
        """Return the group whose strokes are chosen, all of them and no others."""
        desk = self._session.desk
        _, painting = desk.painting(self._session.shown)
        groups = {stroke.group_id for stroke in painting.strokes if stroke.id in desk.stroke_ids}
        if len(groups) != 1 or groups == {""}:
            return None
        (group_id,) = groups
        whole = {stroke.id for stroke in painting.strokes if stroke.group_id == group_id}
        return _found(painting, group_id) if whole == set(desk.stroke_ids) else None


def _found(painting: Painting, group_id: str) -> Group | None:
    return next((group for group in painting.groups if group.id == group_id), None)


def _is_listed(stroke: Stroke, desk: Desk) -> bool:
    if desk.lists is Lists.FRAME:
        return not desk.paints_shot or is_within(stroke.frames, desk.frame)
    if desk.lists is Lists.PEN:
        return stroke.id in desk.under_pen or stroke.id in desk.stroke_ids
    if desk.lists is Lists.TOOL:
        return desk.paint_tool in (None, stroke.brush.tool)  # without a brush in hand it chooses none out
    return desk.lists is Lists.ALL or is_dot(stroke)


def _row(number: int, stroke: Stroke, desk: Desk, groups: dict[str, str]) -> Row:
    """Return the line of a stroke in the list."""
    is_here = not desk.paints_shot or is_within(stroke.frames, desk.frame)
    return _line(number, stroke, groups.get(stroke.group_id, ""), is_of_shot=desk.paints_shot, is_here=is_here)


@lru_cache(maxsize=8192)  # thousands of them are asked for with each frame, and hardly any is another one than before
def _line(number: int, stroke: Stroke, group: str, *, is_of_shot: bool, is_here: bool) -> Row:
    said = (
        group,
        life_words(stroke.frames) if is_of_shot else "",
        f"{stroke.brush.size_px:.0f} px",
        "locked" if stroke.is_locked else "",
    )
    name = f"{number}. {stroke.brush.tool.capitalize()}"
    return Row(stroke.id, name, ", ".join(words for words in said if words), stroke.is_on and is_here)
