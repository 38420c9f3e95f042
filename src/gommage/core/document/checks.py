"""What a shot must keep to: numbers are sane, references lead somewhere, every kind in it can be evaluated.

Only what differs from a shot that was checked before is looked at, found by identity, so that an edit costs its own
size.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from gommage.core.document.records import (
    CleanPlatePicture,
    Drawn,
    Fix,
    FixPicture,
    FromPicture,
    Matte,
    Merged,
    Painting,
    PlaneFollow,
    Plates,
    Scribbled,
    Shared,
    Shot,
    Source,
    Stroke,
    Surface,
)
from gommage.core.document.records.fills import Donors, Placed
from gommage.core.document.soundness import unsound

__all__ = ["dangling", "fault_of", "unsupported"]


def fault_of(shot: Shot, before: Shot | None = None) -> str:
    """Return a sentence, without its stop, about the first thing of a shot that cannot be, empty if all is well.

    Parameters
    ----------
    shot : Shot
    before : Shot, optional
        A shot that was all well; what is the same in both is not looked at again.
    """
    return unsound(shot, before) or dangling(shot, before).rstrip(".") or unsupported(shot, before).rstrip(".")


def _fresh(items: tuple[Any, ...], before: tuple[Any, ...]) -> Iterator[Any]:
    """Yield the items that were not there before, by identity."""
    if items is before:
        return
    known = {id(one) for one in before}
    yield from (one for one in items if id(one) not in known)


def _mattes_of(item: Surface | Fix) -> tuple[Matte, ...]:
    if isinstance(item, Fix):
        return item.mattes
    areas = (item.how.areas, item.how.keep_outs) if isinstance(item.how, PlaneFollow) else ()
    return (*areas, item.extent)


def _paintings(shot: Shot) -> dict[str, Painting]:
    return {plate.id: plate.painting for plate in shot.clean_plates} | {fix.id: fix.touch_up for fix in shot.fixes}


def _fresh_strokes(shot: Shot, before: Shot) -> Iterator[Stroke]:
    old = _paintings(before)
    for holder, painting in _paintings(shot).items():
        yield from _fresh(painting.strokes, old[holder].strokes if holder in old else ())


# -- references ---------------------------------------------------------------------------------------------


def dangling(shot: Shot, before: Shot | None = None) -> str:
    """Return a sentence about the first thing of a shot that refers to nothing, empty if all is well.

    Parameters
    ----------
    shot : Shot
    before : Shot, optional
        A shot that was all well; what is the same in both is not looked at again, unless things were taken away.
    """
    whole = before is None or _has_lost(shot, before)
    old = Shot(id="", name="", footage=shot.footage) if whole or before is None else before
    known = {
        "surface": {"", *(one.id for one in shot.surfaces)},
        "clean plate": {one.id for one in shot.clean_plates},
        "matte": {one.id for one in shot.mattes},
        "fix": {one.id for one in shot.fixes},
    }
    for name, kind, wanted in _references(shot, old):
        if wanted not in known[kind]:
            return f"{name} refers to the {kind} {wanted!r}, which is not in this shot."
    return ""


def _has_lost(shot: Shot, before: Shot) -> bool:
    return any(
        {one.id for one in getattr(before, items)} - {one.id for one in getattr(shot, items)}
        for items in ("surfaces", "clean_plates", "mattes", "fixes")
    )


def _references(shot: Shot, before: Shot) -> Iterator[tuple[str, str, str]]:
    if shot.camera is not None:
        yield "The ground", "surface", shot.camera.ground_id
    for surface in _fresh(shot.surfaces, before.surfaces):
        yield surface.name, "surface", surface.rides_on
        for matte in _mattes_of(surface):
            yield from _matte_references(surface.name, matte)
    for plate in _fresh(shot.clean_plates, before.clean_plates):
        yield plate.name, "surface", plate.surface_id
    for shared in _fresh(shot.mattes, before.mattes):
        yield from _matte_references(shared.name, shared.matte)
    for fix in _fresh(shot.fixes, before.fixes):
        yield from _fix_references(fix)
    for stroke in _fresh_strokes(shot, before):
        yield "A stroke", "surface", stroke.surface_id
        yield from _source_references("A stroke", stroke.source)


def _fix_references(fix: Fix) -> Iterator[tuple[str, str, str]]:
    yield fix.name, "surface", fix.surface_id
    for matte in _mattes_of(fix):
        yield from _matte_references(fix.name, matte)
    if isinstance(fix.fill, Plates):
        yield from ((fix.name, "clean plate", plate_id) for plate_id in fix.fill.plate_ids)
    elif isinstance(fix.fill, Donors):
        yield from ((fix.name, "surface", surface_id) for surface_id in fix.fill.surface_ids)
        yield from ((fix.name, "clean plate", plate_id) for plate_id in fix.fill.rest_plate_ids)


def _matte_references(name: str, matte: Matte) -> Iterator[tuple[str, str, str]]:
    for part in matte.parts:
        if isinstance(part.source, Drawn):
            yield name, "surface", part.source.surface_id
        elif isinstance(part.source, Shared):
            yield name, "matte", part.source.matte_id


def _source_references(name: str, source: Source) -> Iterator[tuple[str, str, str]]:
    if isinstance(source.picture, CleanPlatePicture):
        yield name, "clean plate", source.picture.plate_id
    elif isinstance(source.picture, FixPicture):
        yield name, "fix", source.picture.fix_id


# -- kinds that come later ----------------------------------------------------------------------------------


def unsupported(shot: Shot, before: Shot | None = None) -> str:
    """Return a sentence about the first thing of a shot that this version cannot evaluate, empty if there is none.

    Parameters are those of `dangling`.
    """
    old = before if before is not None else Shot(id="", name="", footage=shot.footage)
    for kind in _later_kinds(shot, old):
        return f"{kind[:1].upper()}{kind[1:]} cannot be used in this version of Gommage yet."
    return ""


def _later_kinds(shot: Shot, before: Shot) -> Iterator[str]:
    for surface in _fresh(shot.surfaces, before.surfaces):
        areas = surface.how.areas.parts if isinstance(surface.how, PlaneFollow) else ()
        if any(not isinstance(part.source, Drawn) for part in areas):
            yield "a matte from a file, from scribbles or shared, as an area to follow by,"
    for shared in _fresh(shot.mattes, before.mattes):
        if any(isinstance(part.source, Shared) for part in shared.matte.parts):
            yield "a shared matte that is made of shared mattes"
    for plate in _fresh(shot.clean_plates, before.clean_plates):
        if plate.scale != 1.0 and not isinstance(plate.base, FromPicture | Merged):
            yield "a clean plate of a frame, of another scale than the picture,"
        elif plate.window is not None and not isinstance(plate.base, FromPicture | Merged):
            yield "a clean plate of a frame, of another size than the picture,"
        if plate.rest is not None and any(matte.parts for matte in plate.rest.mattes):
            yield "a guide line on a clean plate"
    for fix in _fresh(shot.fixes, before.fixes):
        yield from _in_fix(fix)


def _in_fix(fix: Fix) -> Iterator[str]:
    if isinstance(fix.fill, Placed) and any(not isinstance(one.source, Scribbled) for one in fix.fill.subject.parts):
        yield "a subject that is not scribbled"
