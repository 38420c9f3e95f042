"""Edits of clean plates."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from gommage.core.document.edits.changing import changed, in_shot, refuse_what_is_there, swapped, without
from gommage.core.document.placements import placement
from gommage.core.document.records import CleanPlate, Donors, Fix, Plates, Project, Shot
from gommage.errors import EditError

__all__ = ["add_clean_plate", "change_clean_plate", "remove_clean_plate"]


def add_clean_plate(project: Project, shot_id: str, plate: CleanPlate) -> Project:
    """Return the project with one more clean plate.

    Raises
    ------
    EditError
        If its surface was not followed to the plate's home frame.
    """

    def change(shot: Shot) -> Shot:
        refuse_what_is_there(shot.clean_plates, plate, "clean plate")
        _refuse_unplaced(shot, plate)
        return replace(shot, clean_plates=(*shot.clean_plates, plate))

    return in_shot(project, shot_id, change)


def _refuse_unplaced(shot: Shot, plate: CleanPlate) -> None:
    if plate.home_frame not in shot.footage.frames:
        raise EditError(f"Frame {plate.home_frame} is outside the shot.")
    if not plate.surface_id:
        return
    surface = shot.surface(plate.surface_id)
    placed = placement(shot, surface)
    if placed is None or not placed.is_placed(plate.home_frame):
        raise EditError(f"{surface.name} was not followed to frame {plate.home_frame}. Follow it there first.")


def change_clean_plate(project: Project, shot_id: str, plate_id: str, **fields: Any) -> Project:
    """Return the project with fields of a clean plate changed (name, surface_id, home_frame, base)."""

    def change(shot: Shot) -> Shot:
        plate = changed(shot.clean_plate(plate_id), **fields)
        if {"surface_id", "home_frame"} & set(fields):
            _refuse_unplaced(shot, plate)
        return changed(shot, clean_plates=swapped(shot.clean_plates, plate))

    return in_shot(project, shot_id, change)


def remove_clean_plate(project: Project, shot_id: str, plate_id: str) -> Project:
    """Return the project without a clean plate; fixes that used it do so no longer."""

    def change(shot: Shot) -> Shot:
        plates = without(shot.clean_plates, plate_id)
        return replace(shot, clean_plates=plates, fixes=tuple(_unused(fix, plate_id) for fix in shot.fixes))

    return in_shot(project, shot_id, change)


def _unused(fix: Fix, plate_id: str) -> Fix:
    fill = fix.fill
    if isinstance(fill, Plates):
        return changed(fix, fill=changed(fill, plate_ids=tuple(one for one in fill.plate_ids if one != plate_id)))
    if isinstance(fill, Donors):
        rest = tuple(one for one in fill.rest_plate_ids if one != plate_id)
        return changed(fix, fill=changed(fill, rest_plate_ids=rest))
    return fix
