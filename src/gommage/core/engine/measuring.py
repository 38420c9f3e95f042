"""Measure a fix over its shot: seam and flicker of every frame it is on."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from gommage.core.check import FrameMeasures, Sample, held_cells, measures, seam
from gommage.core.document import Fix, Shot
from gommage.core.engine.cache import Cache
from gommage.core.engine.inputs import FixInputs, frame_inputs, inputs_at, mappings_of
from gommage.core.engine.patches import Patches
from gommage.core.geometry import IDENTITY, Mapping, Window, around, composed, scaling, shift
from gommage.core.picture import Filter, luminance, resample
from gommage.errors import FootageError

__all__ = ["measured"]

HELD_SIDE_PX = 144


def measured(
    cache: Cache,
    patches: Patches,
    shot: Shot,
    fix: Fix,
    check: Callable[[], None],
    progress: Callable[[float], None],
) -> tuple[FrameMeasures, ...]:
    """Return seam and flicker of a fix on every frame it is on; frames that cannot be read are left out."""
    frames = [frame for frame in shot.footage.frames if frame not in shot.footage.missing]
    samples: dict[int, Sample] = {}
    for count, frame in enumerate(frames, 1):
        check()
        inputs = inputs_at(shot, fix, frame)
        if inputs is not None:
            held = _held_region(shot, fix, frame)
            key = ("sample", frame_inputs(shot, frame), inputs, held)
            try:
                make = partial(_sampled, patches, shot, inputs, held, check)
                sample = cache.get_or_make(key, make, check)[0]
            except FootageError:
                sample = None  # a frame that cannot be read has nothing to measure; the strip shows it as a gap
            if sample is not None:
                samples[frame] = sample
        progress(count / len(frames))
    return measures(samples)


def _held_region(shot: Shot, fix: Fix, frame: int) -> tuple[Window, Mapping]:
    """Return the region of a fix that is held still over the shot, in home pixels, and where these lie on the frame."""
    if not fix.cover.drawn:
        return shot.footage.bounds, IDENTITY
    _, drawn = fix.cover.drawn[0]
    region = around(drawn.shape.keys[0].points)
    return region, mappings_of(shot)(drawn.surface_id, frame) or IDENTITY


def _sampled(
    patches: Patches, shot: Shot, inputs: FixInputs, held: tuple[Window, Mapping], check: Callable[[], None]
) -> tuple[Sample | None]:
    """Return the sample in a tuple, so that there being none can be kept too."""
    return (_sample(patches, shot, inputs, held, check),)


def _sample(
    patches: Patches, shot: Shot, inputs: FixInputs, held: tuple[Window, Mapping], check: Callable[[], None]
) -> Sample | None:
    laid = patches.laid(inputs, check)
    if laid is None:
        return None
    frame, wide = inputs.frame, laid.wide
    whole = patches.composited(inputs.footage, frame, wide, 0, frame_inputs(shot, frame), check=check)
    check()
    result = luminance(whole)
    home, to_frame = held
    scale = HELD_SIDE_PX / max(home.width, home.height)
    frame_from_held = composed(scaling(1 / scale), shift(home.left, home.top), to_frame)
    window = Window.of(max(round(home.width * scale), 8), max(round(home.height * scale), 8))
    still, still_alpha = (
        resample(picture, frame_from_held, window, at=wide, filter=Filter.LOOK).pixels
        for picture in (result, laid.alpha)
    )
    check()
    return Sample(
        seam(luminance(laid.pixels), luminance(laid.below), laid.alpha, laid.valid),
        held_cells(result, laid.alpha, still, still_alpha),
    )
