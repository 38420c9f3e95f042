"""What a frame's pixels depend on, gathered once: the key of the cache and the request of the worker in one frozen
value.

Records hold curves over the whole shot; an input holds their value on one frame. So a pin or a key on one frame changes
the inputs of those frames only that it moves, and everything that was computed of the others is found again.
"""

from __future__ import annotations

import zlib
from functools import lru_cache
from typing import Any

import numpy as np
from msgspec.structs import replace

from gommage.core.cover import MatteAt, matte_on, reach_of
from gommage.core.document import (
    Array,
    Donors,
    Fix,
    Footage,
    Matte,
    Painted,
    Placed,
    Shot,
    Surface,
    is_within,
    mappings_of,
    placement,
    value_at,
)
from gommage.core.document.records import Record
from gommage.core.fill import RECIPES, PlateAt, PlatesAt, plate_on_frame
from gommage.core.fill.blocking import blocked_on, middle_frame, not_around
from gommage.core.fill.spans import cover_on
from gommage.core.geometry import IDENTITY, Mapping, Window
from gommage.core.match import Grade, grade_on
from gommage.core.paint import StrokeAt, strokes_at

__all__ = [
    "FixInputs",
    "FixMatte",
    "GrainInputs",
    "Inputs",
    "WrittenBack",
    "frame_inputs",
    "inputs_at",
    "is_lit_on",
    "mappings_of",
    "matte_inputs",
]

PAINTED = Painted.__name__
RING_PX = 26
"""Around the cover, so far the picture is looked at to fit the fill in."""
LEAST_GRAIN_PX = 96
"""So far around a cover grain is measured where nothing is followed."""
GRAIN_NEIGHBOURS = (-3, -2, -1, 1, 2, 3)
LIGHT_NEIGHBOURS, SMALL_PX = (-2, -1, 1, 2), 100
"""Around a cover whose box measures no more than so many pixels round, there may be too few to tell light by."""


class GrainInputs(Record, frozen=True):
    """What the measuring of grain depends on: a region of the home frame, and where it lies on its neighbours.

    `blocked` is what is in front of it: mattes on the home frame, then on each of the neighbours; none if nothing is.
    `is_placed` tells whether it is known where it lies on the neighbours; otherwise it is looked for.
    """

    footage: Footage
    home_frame: int
    outline: Array
    neighbours: tuple[tuple[int, Mapping], ...]
    blocked: tuple[tuple[MatteAt, ...], ...] = ()
    is_placed: bool = True


class FixInputs(Record, frozen=True):
    """All that a fix's pixels on one frame depend on.

    Attributes
    ----------
    seed : int
        Of its fresh grain, with the frame.
    fill : record
        What the fill's recipe asks for; see `gommage.core.fill.RECIPES`.
    is_lit : bool
        Whether light follows the pixels around the cover.
    light_area : MatteAt
        Where light is looked at; empty: around the cover.
    not_light : tuple of MatteAt
        Where it is not: what is in front, and what other fixes cover.
    beside : tuple of (int, LightInputs)
        What light depends on on the frames beside it, by how many they come later; of small covers alone.
    is_blurred : bool
        Whether it is made as blurred as the frame.
    is_joined : bool
        Whether it meets what lies below without a step.
    grain : GrainInputs or None
        None where no grain is taken off or put on.
    below : tuple of FixInputs
        Those of the fixes behind: with strokes all of them, which may be painted from, else those that come near.
    strokes : tuple of StrokeAt
        Its touch-up as it lies on the frame.
    """

    footage: Footage
    frame: int
    seed: int
    cover: MatteAt
    hold_outs: MatteAt
    opacity: float
    fill: Any
    fill_kind: str
    is_lit: bool
    light_area: MatteAt
    not_light: tuple[MatteAt, ...]
    beside: tuple[tuple[int, LightInputs], ...]
    is_blurred: bool
    is_joined: bool
    grade: Grade
    blur_px: float
    grain: GrainInputs | None
    grain_amount: float
    is_grain_laid: bool
    below: tuple[FixInputs, ...]
    strokes: tuple[StrokeAt, ...] = ()

    @property
    def window(self) -> Window:
        """Where its cover and its strokes reach, in pixels of the frame."""
        return _reached(self)

    @property
    def cover_window(self) -> Window:
        """Where its cover reaches; nowhere if its fill lays nothing there."""
        return Window(0, 0, 0, 0) if self.fill_kind == PAINTED else reach_of(self.cover, self.footage.bounds)

    @property
    def plates(self) -> tuple[PlateAt, ...]:
        """The clean plates that it is filled from."""
        return self.fill.plates if isinstance(self.fill, PlatesAt) else ()

    @property
    def untouched(self) -> FixInputs:
        """Its fill alone, all of the cover: what its strokes are laid on."""
        return _the_one(replace(self, strokes=(), hold_outs=MatteAt(parts=()), opacity=1.0))

    @property
    def lighting(self) -> LightInputs:
        """What the light depends on: not the paint, not the grain, and not what other fixes make of the frame."""
        return LightInputs(
            footage=self.footage,
            frame=self.frame,
            cover=self.cover,
            fill=self.fill.as_shot,
            fill_kind=self.fill_kind,
            area=self.light_area,
            left_out=self.not_light,
        )


class LightInputs(Record, frozen=True):
    """What a fix's light on one frame depends on; see `FixInputs`.

    `below` are the fixes behind, where the frame as it was filmed does not do.
    """

    footage: Footage
    frame: int
    cover: MatteAt
    fill: Any
    fill_kind: str
    area: MatteAt
    left_out: tuple[MatteAt, ...]
    below: tuple[FixInputs, ...] = ()


@lru_cache(maxsize=4096)
def _the_one(inputs: Any) -> Any:
    """Return the first of all equal inputs, so that what is built on them compares by identity."""
    return inputs


@lru_cache(maxsize=2048)
def _reached(inputs: FixInputs) -> Window:
    bounds = inputs.footage.bounds
    reaches = [stroke.reach for stroke in inputs.strokes]
    seen = [
        one
        for one in reaches
        if one.right > 0 and one.bottom > 0 and one.left < bounds.right and one.top < bounds.bottom
    ]
    if not seen:
        return inputs.cover_window
    painted = Window(
        min(one.left for one in seen), min(one.top for one in seen),
        max(one.right for one in seen), max(one.bottom for one in seen),
    )  # fmt: skip
    return inputs.cover_window | (painted & bounds)


def _grain_inputs(shot: Shot, fix: Fix) -> GrainInputs | None:
    surface = _grain_surface(shot, fix)
    if surface is None:
        return None if isinstance(fix.fill, Donors) else _grain_around(shot, fix)
    found = grain_of_surface(shot, surface)
    return _unblocked(shot, found) if isinstance(fix.fill, Donors) else found  # the thing passes before it


def _unblocked(shot: Shot, grain: GrainInputs) -> GrainInputs:
    """Return the same without what is covered on its frames."""
    frames = (grain.home_frame, *(frame for frame, _ in grain.neighbours))
    return _the_one(replace(grain, blocked=tuple(blocked_on(shot, frame) for frame in frames)))


@lru_cache(maxsize=256)
def _grain_around(shot: Shot, fix: Fix) -> GrainInputs | None:
    """Return what the measuring of grain around a cover depends on that rides on nothing."""
    footage, frame = shot.footage, middle_frame(shot, fix)
    window = reach_of(matte_on(shot, fix.cover, frame), footage.bounds).grown(LEAST_GRAIN_PX) & footage.bounds
    if window.is_empty:
        return None
    near = (frame + by for by in GRAIN_NEIGHBOURS)
    neighbours = tuple((one, IDENTITY) for one in near if one in footage.frames and one not in footage.missing)
    found = GrainInputs(footage=footage, home_frame=frame, outline=Array(window.corners), neighbours=neighbours,
                        is_placed=False)  # fmt: skip
    return _unblocked(shot, found)


def _grain_surface(shot: Shot, fix: Fix) -> Surface | None:
    if isinstance(fix.fill, Donors):  # what is filled along it shows the shot's grain
        return next((one for one in map(shot.surface, fix.fill.surface_ids) if placement(shot, one)), None)
    if fix.surface_id:
        return shot.surface(fix.surface_id)
    riding = [drawn.surface_id for _, drawn in fix.cover.drawn if drawn.surface_id]
    return shot.surface(riding[0]) if riding else None


@lru_cache(maxsize=256)
def _grain_of(footage: Footage, home: int, outline: Array, placed: Any) -> GrainInputs:
    near = [(home + by, placed.mapping(home + by)) for by in GRAIN_NEIGHBOURS if placed is not None]
    known = tuple((at, mapping) for at, mapping in near if mapping is not None and at not in footage.missing)
    return GrainInputs(footage=footage, home_frame=home, outline=outline, neighbours=known)


def grain_of_surface(shot: Shot, surface: Surface) -> GrainInputs:
    """Return what the measuring of grain on a surface depends on."""
    return _grain_of(shot.footage, surface.home_frame, Array(surface.outline), placement(shot, surface))


class WrittenBack(Record, frozen=True):
    """What is done in a flat view of a panorama, to be written back into it: laid like the fixes of a frame."""

    footage: Footage
    frame: int
    view: Footage
    fixes: tuple[FixInputs, ...]

    @property
    def window(self) -> Window:
        """Where it may reach in the panorama: anywhere."""
        return self.footage.bounds

    @property
    def plates(self) -> tuple[PlateAt, ...]:
        """The clean plates that lie in the panorama itself: none."""
        return ()


Inputs = FixInputs | WrittenBack
"""What lays something on a frame."""


def frame_inputs(shot: Shot, frame: int) -> tuple[Inputs, ...]:
    """Return the inputs of all that does something on a frame, back to front: fixes, then what is written back."""
    views = []
    for view in shot.views:
        fixes = _frame_inputs(view, frame)
        if fixes:
            views.append(WrittenBack(footage=shot.footage, frame=frame, view=view.footage, fixes=fixes))
    return (*_frame_inputs(shot, frame), *views)


@lru_cache(maxsize=2048)  # a frame of a shot each: what one steps and plays through
def _frame_inputs(shot: Shot, frame: int) -> tuple[FixInputs, ...]:
    found: list[FixInputs] = []
    for fix in shot.fixes:
        inputs = _inputs_of(shot, fix, frame, tuple(found))
        if inputs is not None:
            found.append(inputs)
    return tuple(found)


class FixMatte(Record, frozen=True):
    """A fix's matte on a frame, whether or not it has anything to fill it with."""

    footage: Footage
    cover: MatteAt
    hold_outs: MatteAt
    opacity: float


@lru_cache(maxsize=2048)
def matte_inputs(shot: Shot, frame: int, fix_id: str = "") -> tuple[FixMatte, ...]:
    """Return the mattes of all fixes that are on, or of one fix, as they are on a frame."""
    return tuple(
        FixMatte(
            footage=shot.footage,
            cover=cover_on(shot, fix, _with_edge(fix), frame),
            hold_outs=matte_on(shot, fix.hold_outs, frame),
            opacity=float(np.clip(value_at(fix.opacity, frame), 0, 1)),
        )
        for fix in shot.fixes
        if fix_id in ("", fix.id) and fix.is_on and is_within(fix.frames, frame)
    )


def inputs_at(shot: Shot, fix: Fix, frame: int) -> FixInputs | None:
    """Return everything that a fix's pixels on a frame depend on, or None where it does nothing.

    Parameters
    ----------
    shot : Shot
    fix : Fix
        One of the shot's.
    frame : int
    """
    index = [one.id for one in shot.fixes].index(fix.id)
    behind = _frame_inputs(_with_fixes(shot, index), frame) if index else ()
    return _inputs_of(shot, fix, frame, behind)


@lru_cache(maxsize=64)
def _with_fixes(shot: Shot, count: int) -> Shot:
    """Return the shot with its backmost fixes alone."""
    return shot if count == len(shot.fixes) else replace(shot, fixes=shot.fixes[:count])


def _inputs_of(shot: Shot, fix: Fix, frame: int, behind: tuple[FixInputs, ...]) -> FixInputs | None:
    if not fix.is_on or not is_within(fix.frames, frame):
        return None
    cover = cover_on(shot, fix, _with_edge(fix), frame)
    strokes = _touch_up(shot, fix, frame, behind)
    is_painted = isinstance(fix.fill, Painted)
    window = Window(0, 0, 0, 0) if is_painted else reach_of(cover, shot.footage.bounds)
    if window.is_empty and not strokes:
        return None
    fill = None if window.is_empty else RECIPES[type(fix.fill)].at(fix.fill, shot, fix, frame)
    if fill is None:
        if not strokes:
            return None
        fill, is_painted = RECIPES[Painted].at(Painted(), shot, fix, frame), True
    near = window.grown(RING_PX)
    is_lit = not is_painted and is_lit_on(fix, frame)
    is_measured = not is_painted and _is_compared(fix)
    has_rim = is_measured or (fix.match.is_joined and not is_painted)
    is_small = is_lit and 2 * (window.width + window.height) <= SMALL_PX
    near_by = [(by, _lighting_on(shot, fix, frame + by)) for by in LIGHT_NEIGHBOURS] if is_small else []
    amount = value_at(fix.match.grain.amount, frame)
    found: FixInputs = _the_one(
        FixInputs(
            footage=shot.footage,
            frame=frame,
            seed=zlib.crc32(fix.id.encode()),
            cover=cover,
            hold_outs=matte_on(shot, fix.hold_outs, frame),
            opacity=float(np.clip(value_at(fix.opacity, frame), 0, 1)),
            fill=fill,
            fill_kind=PAINTED if is_painted else type(fix.fill).__name__,
            is_lit=is_lit,
            light_area=matte_on(shot, fix.light_area, frame) if is_measured else MatteAt(parts=()),
            not_light=not_around(shot, fix, frame) if has_rim else (),
            beside=tuple((by, one) for by, one in near_by if one is not None),
            is_blurred=is_measured and fix.match.sharpness_px is None,
            is_joined=not is_painted and fix.match.is_joined,
            grade=grade_on(fix.match.light, frame),
            blur_px=max(value_at(fix.match.sharpness_px or 0.0, frame), 0.0),
            grain=_grain_inputs(shot, fix) if amount > 0 and not is_painted else None,
            grain_amount=amount,
            is_grain_laid=fix.match.grain.is_laid,
            below=behind if strokes else tuple(one for one in behind if not (one.window & near).is_empty),
            strokes=strokes,
        )
    )
    return found


def is_lit_on(fix: Fix, frame: int) -> bool:
    """Return whether a fix's light is measured on a frame."""
    light = fix.match.light
    if not _is_compared(fix) or not light.is_measured:
        return False
    return not light.by_hand or not is_within(light.by_hand, frame)


def _is_compared(fix: Fix) -> bool:
    """Return whether what a fix is filled with shows around its cover what the frame does, in other light perhaps."""
    is_strange = isinstance(fix.fill, Placed) and not fix.fill.is_of_shot
    return not RECIPES[type(fix.fill)].is_lit_already and not is_strange


@lru_cache(maxsize=8192)
def _lighting_on(shot: Shot, fix: Fix, frame: int) -> LightInputs | None:
    """Return what a fix's light on a frame depends on; None where it has none."""
    is_there = frame in shot.footage.frames and frame not in shot.footage.missing and is_within(fix.frames, frame)
    fill = RECIPES[type(fix.fill)].at(fix.fill, shot, fix, frame) if is_there else None
    if fill is None:
        return None
    return _the_one(
        LightInputs(
            footage=shot.footage, frame=frame, cover=cover_on(shot, fix, _with_edge(fix), frame), fill=fill.as_shot,
            fill_kind=type(fix.fill).__name__, area=matte_on(shot, fix.light_area, frame),
            left_out=not_around(shot, fix, frame),
        )
    )  # fmt: skip


def _with_edge(fix: Fix) -> Matte:
    """Return the cover of a fix with the edge that its match gives it, if it does."""
    return fix.cover if fix.match.edge is None else replace(fix.cover, softness=fix.match.edge)


def _touch_up(shot: Shot, fix: Fix, frame: int, behind: tuple[FixInputs, ...]) -> tuple[StrokeAt, ...]:
    """Return a fix's strokes as they lie on a frame."""
    if not fix.touch_up.strokes:
        return ()
    index = [one.id for one in shot.fixes].index(fix.id)

    def below(other: int) -> tuple[FixInputs, ...]:
        return behind if other == frame else _frame_inputs(_with_fixes(shot, index), other)

    def of_fix(fix_id: str, other: int) -> tuple[FixInputs, ...] | None:
        shot_behind = _with_fixes(shot, index)
        if fix_id not in {one.id for one in shot_behind.fixes}:
            return None
        inputs = inputs_at(shot_behind, shot_behind.fix(fix_id), other) if other in shot.footage.frames else None
        return () if inputs is None else (inputs,)

    @lru_cache(maxsize=256)
    def barred(other: int, is_bare: bool) -> tuple[MatteAt, ...]:
        mattes = (fix.hold_outs, fix.cover) if is_bare else (fix.hold_outs,)
        return tuple(matte_on(shot, matte, other) for matte in mattes if matte.parts)

    return strokes_at(
        fix.touch_up, shot.footage, frame, mappings_of(shot), along=fix.surface_id, below=below,
        plate=lambda plate_id: plate_on_frame(shot, plate_id, frame), fix=of_fix, barred=barred,
    )  # fmt: skip
