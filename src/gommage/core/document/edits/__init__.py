"""Edits: pure functions from a project to a project.

Each validates and raises `EditError` with a sentence for the user: for ids that nothing has, for references to nothing,
for what this version cannot evaluate yet. An edit that changes nothing returns the same object, so that history makes
no step of it. What has an id is found by it, wherever in the shot it is; a matte is found by its holder's id and its
slot.
"""

from gommage.core.document.edits.fixes import add_fix, change_fix, change_match, move_fix, remove_fixes
from gommage.core.document.edits.mattes import (
    Slot,
    add_part,
    change_matte,
    change_part,
    change_shape,
    matte_in,
    move_part,
    remove_part,
    remove_shape_key,
    set_shape_key,
    slot_of,
)
from gommage.core.document.edits.painting import (
    add_stroke,
    change_brush,
    change_painting,
    change_strokes,
    move_stroke,
    remove_strokes,
)
from gommage.core.document.edits.plates import add_clean_plate, change_clean_plate, remove_clean_plate
from gommage.core.document.edits.shots import add_shot, change_shot, move_shot, relink_footage, remove_shot
from gommage.core.document.edits.surfaces import (
    add_surface,
    change_follow,
    change_surface,
    move_surface,
    remove_pin,
    remove_surface,
    set_pin,
    set_rides_on,
    trim_track,
)

__all__ = [
    "Slot",
    "add_clean_plate",
    "add_fix",
    "add_part",
    "add_shot",
    "add_stroke",
    "add_surface",
    "change_brush",
    "change_clean_plate",
    "change_fix",
    "change_follow",
    "change_match",
    "change_matte",
    "change_painting",
    "change_part",
    "change_shape",
    "change_shot",
    "change_strokes",
    "change_surface",
    "matte_in",
    "move_fix",
    "move_part",
    "move_shot",
    "move_stroke",
    "move_surface",
    "relink_footage",
    "remove_clean_plate",
    "remove_fixes",
    "remove_part",
    "remove_pin",
    "remove_shape_key",
    "remove_shot",
    "remove_strokes",
    "remove_surface",
    "set_pin",
    "set_rides_on",
    "set_shape_key",
    "slot_of",
    "trim_track",
]
