"""Menus made of the table of actions; what must be there for each, and which are on."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMainWindow, QMenu

from gommage.app.actions import ACTIONS, Action
from gommage.app.desk import BRUSHES, Desk
from gommage.app.look.theme import icon
from gommage.core.document import Project, ScenePlane, Still
from gommage.core.document.edits import Reach
from gommage.core.document.records import ByHand
from gommage.core.engine import Look, Step

__all__ = ["build_menus", "what_is_on", "what_is_there"]

TOOLS = ("hand", "draw", "edit", "mould", "scribble", "pin", "borrow", "picture", *BRUSHES)


def build_menus(window: QMainWindow, call: Callable[[str], object]) -> dict[str, QAction]:
    """Give a window the menus and keys of all actions; returns these by id."""
    menus: dict[str, QMenu] = {}
    actions: dict[str, QAction] = {}
    for entry in ACTIONS:
        actions[entry.id] = action = _action(window, entry)
        action.triggered.connect(lambda _=False, name=entry.id: call(name))
        window.addAction(action)
        over, _, name = entry.menu.rpartition("/")
        if entry.menu not in menus:
            menus[entry.menu] = (menus[over] if over else window.menuBar()).addMenu(name)
        menus[entry.menu].addAction(action)
    return actions


def _action(window: QMainWindow, entry: Action) -> QAction:
    action = QAction(entry.text, window)
    action.setObjectName(entry.id)
    action.setShortcuts([QKeySequence(key) for key in entry.keys])
    action.setCheckable(entry.is_checkable)
    keys = f" ({entry.keys[0]})" if entry.keys else ""
    action.setToolTip((entry.tip or entry.text.rstrip("…")) + keys)
    if entry.icon:
        action.setIcon(icon(entry.icon))
        action.setIconVisibleInMenu(False)
    if entry.is_of_picture:
        action.setShortcutContext(Qt.ShortcutContext.WidgetShortcut)
    return action


def what_is_there(desk: Desk, project: Project) -> dict[str, bool]:
    """Return what actions need, and whether it is there; see `Action.needs`."""
    surface = desk.surface(project)
    is_followed = surface is not None and (
        surface.track is not None or bool(surface.pins) or isinstance(surface.how, Still | ByHand | ScenePlane)
    )
    return {
        "": True,
        "shot": desk.shot(project) is not None,
        "surface": surface is not None,
        "track": is_followed,
        "fix": desk.fix(project) is not None,
        "shape": desk.part(project) is not None,
        "plate": desk.plate(project) is not None,
        "strokes": bool(desk.strokes(project)),
        "paint": bool(desk.painting(project)[0]),
        "camera": (shot := desk.shot(project)) is not None and shot.camera is not None,
        "panorama": shot is not None and project.whole_of(shot.id).footage.is_panorama,
        "scene plane": surface is not None and isinstance(surface.how, ScenePlane),
    }


def what_is_on(desk: Desk, project: Project, *, is_playing: bool) -> dict[str, bool]:
    """Return which checkable actions are on."""
    shape = desk.shape(project)
    checks = {f"step_{step.lower()}": desk.step is step for step in Step}
    checks |= {f"tool_{tool}": desk.tool == tool for tool in TOOLS}
    checks |= {"steady": desk.is_steady, "lattice": desk.has_lattice, "wipe": desk.has_wipe}
    checks |= {"square_on": desk.is_square_on, "test_card": desk.has_test_card, "trails": desk.has_trails}
    checks |= {"reach_this": desk.reach is Reach.THIS, "reach_all": desk.reach is Reach.ALL}
    checks |= {"reach_marked": desk.reach is Reach.MARKED, "solo_shape": bool(desk.solo_id)}
    checks |= {"transform_box": desk.has_box, "soften_points": desk.softens, "larger_dots": desk.dot_px > 4}
    checks |= {"lock_shape": shape is not None and shape.is_locked}
    return checks | {
        "simulated_pen": desk.simulates_pen,
        "pen_tilts": desk.tilts,
        "stroke_outlines": desk.outlines_strokes,
        "sheet": desk.look is Look.SHEET,
        "veil": desk.look is Look.VEIL,
        "donor_map": desk.look is Look.DONOR_MAP,
        "play": is_playing,
        "solved_points": desk.shows_points,
    }
