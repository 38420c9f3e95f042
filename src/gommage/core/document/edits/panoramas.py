"""Edits of panoramas: flat views of them, which way is up, how the camera turned."""

from __future__ import annotations

from msgspec.structs import replace

from gommage.core.document.edits.changing import changed, in_shot, refuse_faults, refuse_what_is_there, without
from gommage.core.document.records import Project, Shot, Sphere
from gommage.errors import EditError

__all__ = ["add_view", "remove_view", "set_sphere"]


def add_view(project: Project, shot_id: str, view: Shot) -> Project:
    """Return the project with one more flat view of a panorama.

    Raises
    ------
    EditError
        If the shot is no panorama, or the view is none of it.
    """

    def change(shot: Shot) -> Shot:
        if not shot.footage.is_panorama:
            raise EditError(f"{shot.name} is no panorama: there are no flat views of it.")
        if view.footage.of_files != shot.footage:
            raise EditError(f"{view.name} looks at other pictures than {shot.name}.")
        refuse_what_is_there((*project.shots, *shot.views), view, "shot")
        refuse_faults(view)
        return changed(shot, views=(*shot.views, view))

    return in_shot(project, shot_id, change)


def remove_view(project: Project, shot_id: str, view_id: str) -> Project:
    """Return the project without a flat view of a panorama, and without what was done in it."""
    return in_shot(project, shot_id, lambda shot: changed(shot, views=without(shot.views, view_id)))


def set_sphere(project: Project, shot_id: str, sphere: Sphere) -> Project:
    """Return the project with how a panoramic camera stood changed; views that ride on its turns do so anew."""

    def of_view(view: Shot) -> Shot:
        turned = view.footage.turned
        if turned is None or turned.camera_turns is None or sphere.turns is None:
            return view
        fresh = replace(turned, camera_turns=sphere.turns, first_frame=sphere.first_frame)
        return changed(view, footage=replace(view.footage, turned=fresh))

    def change(shot: Shot) -> Shot:
        if not shot.footage.is_panorama:
            raise EditError(f"{shot.name} is no panorama: it has no sphere.")
        return changed(shot, sphere=sphere, views=tuple(of_view(view) for view in shot.views))

    return in_shot(project, shot_id, change)
