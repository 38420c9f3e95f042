"""Edits of fixes."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from msgspec.structs import replace

from gommage.core.document.edits.changing import changed, in_shot, moved_to, refuse_what_is_there, swapped
from gommage.core.document.records import Fix, Project, Shot

__all__ = ["add_fix", "change_fix", "change_match", "move_fix", "remove_fixes"]


def add_fix(project: Project, shot_id: str, fix: Fix) -> Project:
    """Return the project with one more fix, in front of the others."""

    def change(shot: Shot) -> Shot:
        refuse_what_is_there(shot.fixes, fix, "fix")
        return replace(shot, fixes=(*shot.fixes, fix))

    return in_shot(project, shot_id, change)


def remove_fixes(project: Project, shot_id: str, fix_ids: Collection[str]) -> Project:
    """Return the project without some fixes; their surfaces and clean plates stay."""

    def change(shot: Shot) -> Shot:
        for fix_id in fix_ids:
            shot.fix(fix_id)
        return changed(shot, fixes=tuple(fix for fix in shot.fixes if fix.id not in fix_ids))

    return in_shot(project, shot_id, change)


def move_fix(project: Project, shot_id: str, fix_id: str, index: int) -> Project:
    """Return the project with a fix at another place in the order (0 is the backmost).

    ::

        before  back [ wall  label  rod ] front
        move_fix(rod, 0)
        after   back [ rod  wall  label ] front
    """
    return in_shot(project, shot_id, lambda shot: changed(shot, fixes=moved_to(shot.fixes, fix_id, index)))


def change_fix(project: Project, shot_id: str, fix_id: str, **fields: Any) -> Project:
    """Return the project with fields of a fix changed (name, colour, is_on, frames, surface_id, fill, opacity)."""

    def change(shot: Shot) -> Shot:
        return changed(shot, fixes=swapped(shot.fixes, changed(shot.fix(fix_id), **fields)))

    return in_shot(project, shot_id, change)


def change_match(project: Project, shot_id: str, fix_id: str, **fields: Any) -> Project:
    """Return the project with fields of a fix's match changed (light, grain, edge, sharpness_px)."""

    def change(shot: Shot) -> Shot:
        fix = shot.fix(fix_id)
        return changed(shot, fixes=swapped(shot.fixes, changed(fix, match=changed(fix.match, **fields))))

    return in_shot(project, shot_id, change)
