"""Projects and shots."""

from __future__ import annotations

from typing import Self

from msgspec.structs import replace

from gommage.core.document.records.base import Record, by_id
from gommage.core.document.records.cameras import SolvedCamera
from gommage.core.document.records.fixes import Fix
from gommage.core.document.records.footage import SCENE_LINEAR, Footage
from gommage.core.document.records.plates import CleanPlate
from gommage.core.document.records.shapes import MattePart, Shared, SharedMatte
from gommage.core.document.records.spheres import Sphere
from gommage.core.document.records.surfaces import Surface

__all__ = ["SCENE_LINEAR", "SCHEMA_VERSION", "Footage", "Project", "Shot"]

SCHEMA_VERSION = 3


class Shot(Record, frozen=True):
    """One piece of moving picture with everything that is done to it. Surfaces and fixes run from back to front.

    Attributes
    ----------
    sphere : Sphere or None
        How a panoramic camera stood; of panoramas alone.
    views : tuple of Shot
        Flat views of a panorama, each with all that is done in it; what they lay is written back into the panorama.
    """

    id: str
    name: str
    footage: Footage
    surfaces: tuple[Surface, ...] = ()
    clean_plates: tuple[CleanPlate, ...] = ()
    mattes: tuple[SharedMatte, ...] = ()
    fixes: tuple[Fix, ...] = ()
    camera: SolvedCamera | None = None
    sphere: Sphere | None = None
    views: tuple[Shot, ...] = ()

    def surface(self, surface_id: str) -> Surface:
        """Return the surface of that id (`KeyError` if there is none)."""
        return by_id(self.surfaces, surface_id)

    def clean_plate(self, plate_id: str) -> CleanPlate:
        """Return the clean plate of that id (`KeyError` if there is none)."""
        return by_id(self.clean_plates, plate_id)

    def matte(self, matte_id: str) -> SharedMatte:
        """Return the shared matte of that id (`KeyError` if there is none)."""
        return by_id(self.mattes, matte_id)

    def unfolded(self, parts: tuple[MattePart, ...]) -> tuple[MattePart, ...]:
        """Return parts of a matte, those that are shared mattes followed by what these are made of."""
        found: list[MattePart] = []
        for part in parts:
            found.append(part)
            if isinstance(part.source, Shared):
                found += self.matte(part.source.matte_id).matte.parts
        return tuple(found)

    def fix(self, fix_id: str) -> Fix:
        """Return the fix of that id (`KeyError` if there is none)."""
        return by_id(self.fixes, fix_id)


class Project(Record, frozen=True):
    """What is saved: shots, in the order of the reel."""

    version: int = SCHEMA_VERSION
    shots: tuple[Shot, ...] = ()

    def shot(self, shot_id: str) -> Shot:
        """Return the shot, or the view of a panorama, of that id (`KeyError` if there is none)."""
        return by_id((*self.shots, *(view for shot in self.shots for view in shot.views)), shot_id)

    def whole_of(self, shot_id: str) -> Shot:
        """Return the shot of that id, of a view its panorama (`KeyError` if there is none)."""
        for shot in self.shots:
            if shot_id == shot.id or any(view.id == shot_id for view in shot.views):
                return shot
        raise KeyError(shot_id)

    def with_shot(self, shot: Shot) -> Self:
        """Return the project with the shot, or the view, of the same id replaced."""
        whole = self.whole_of(shot.id)
        if whole.id != shot.id:
            shot = replace(whole, views=tuple(shot if one.id == shot.id else one for one in whole.views))
        return replace(self, shots=tuple(shot if one.id == shot.id else one for one in self.shots))

    @classmethod
    def of(cls, *shots: Shot) -> Self:
        """Return a project of these shots."""
        return cls(shots=shots)
