"""Edits of shots and their footage."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from gommage.core.document.edits.changing import changed, in_shot, moved_to, refuse_faults, without
from gommage.core.document.records import Footage, Project, Shot
from gommage.errors import EditError

__all__ = ["add_shot", "change_shot", "move_shot", "relink_footage", "remove_shot"]


def add_shot(project: Project, shot: Shot) -> Project:
    """Return the project with one more shot, at the end of the reel."""
    if any(other.id == shot.id for other in project.shots):
        raise EditError(f"The shot {shot.name} is in this project already.")
    refuse_faults(shot)
    return replace(project, shots=(*project.shots, shot))


def _of_project(project: Project, change: Any) -> Project:
    try:
        return changed(project, shots=change(project.shots))
    except KeyError as error:
        raise EditError(f"There is no shot {error.args[0]!r} in this project any more.") from error


def remove_shot(project: Project, shot_id: str) -> Project:
    """Return the project without a shot."""
    return _of_project(project, lambda shots: without(shots, shot_id))


def move_shot(project: Project, shot_id: str, index: int) -> Project:
    """Return the project with a shot at another place in the reel."""
    return _of_project(project, lambda shots: moved_to(shots, shot_id, index))


def change_shot(project: Project, shot_id: str, **fields: Any) -> Project:
    """Return the project with fields of a shot changed (name)."""
    return in_shot(project, shot_id, lambda shot: changed(shot, **fields))


def relink_footage(project: Project, shot_id: str, footage: Footage) -> Project:
    """Return the project with a shot's footage found at another place.

    Raises
    ------
    EditError
        If size or frame range are not those of the shot: its tracks and strokes would not fit.
    """

    def change(shot: Shot) -> Shot:
        was = shot.footage
        if (footage.width, footage.height) != (was.width, was.height):
            raise EditError(
                f"These pictures are {footage.width} x {footage.height}; the shot was made on "
                f"{was.width} x {was.height}. Choose the folder with the original pictures."
            )
        if footage.frames != was.frames:
            raise EditError(
                f"These pictures are frames {footage.frames.first}–{footage.frames.last}; the shot has "
                f"{was.frames.first}–{was.frames.last}. Choose the folder with the original pictures."
            )
        kept = replace(footage, colour_space=was.colour_space, keep_alpha=was.keep_alpha, rate=was.rate)
        return changed(shot, footage=kept)

    return in_shot(project, shot_id, change)
