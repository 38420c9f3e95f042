"""Colour spaces and display transforms, by OpenColorIO; conversions that are asked for often are baked.

The working space is scene-linear with Rec. 709 primaries.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import PyOpenColorIO as ocio
from numpy.typing import NDArray

from gommage.core.disk import read_file, reason
from gommage.core.document import SCENE_LINEAR
from gommage.core.picture.pixels import Picture, as_floats, as_halves
from gommage.errors import FootageError, sentence

__all__ = [
    "CAMERA_VIDEO",
    "DEFAULT_DISPLAY",
    "SCENE_LINEAR",
    "SRGB",
    "Display",
    "colour_spaces",
    "configuration_fault",
    "decode",
    "encode",
    "guess_colour_space",
    "show",
    "views",
]

BUILT_IN = "ocio://studio-config-v2.2.0_aces-v1.3_ocio-v2.4"
SRGB = "sRGB - Texture"
CAMERA_VIDEO = "Camera Rec.709"
LARGEST_CONFIGURATION = 200 * 2**20
CUBE_SIZE = 49
SHAPER_LOW, SHAPER_HIGH = -12.0, 7.0


@lru_cache(maxsize=1)
def _configured() -> tuple[ocio.Config, str]:
    """Return the configuration that `$OCIO` names, or the built-in one and why."""
    built_in = ocio.Config.CreateFromFile(BUILT_IN)
    path = os.environ.get("OCIO", "")
    if not path:
        return built_in, ""
    try:
        if not path.startswith("ocio://"):
            read_file(Path(path), LARGEST_CONFIGURATION)  # what is no file would be waited for
        config = ocio.Config.CreateFromFile(path)
        config.validate()
        return (config, "") if not (lack := _lack(config)) else (built_in, _said(path, lack))
    except OSError as error:
        words = reason(error, Path(path))
    except (ocio.Exception, ValueError, RuntimeError) as error:
        words = (str(error).strip().splitlines() or ["damaged"])[0].rstrip(".")
    return built_in, _said(path, words)


def _said(path: str, words: str) -> str:
    return sentence(f"The colour configuration {path} could not be used ({words}). The built-in one is used.")


def _lack(config: ocio.Config) -> str:
    """Return what a configuration lacks that nothing can be shown without; empty if all is there."""
    if config.getColorSpace(SCENE_LINEAR) is None:
        return f"it has no colour space {SCENE_LINEAR}"
    if DEFAULT_DISPLAY.view not in config.getViews(DEFAULT_DISPLAY.device):
        return f"it has no view {DEFAULT_DISPLAY.view} of a display {DEFAULT_DISPLAY.device}"
    return ""


def _config() -> ocio.Config:
    return _configured()[0]


def configuration_fault() -> str:
    """Return in a sentence why `$OCIO` is not used though it is set; empty if all is well."""
    return _configured()[1]


def colour_spaces() -> tuple[str, ...]:
    """Return the names of the colour spaces that footage may be in, the usual ones first."""
    usual = [SCENE_LINEAR, "ACEScg", SRGB, "Gamma 2.4 Rec.709 - Texture", CAMERA_VIDEO, "ACEScct", "ADX10"]
    names = list(_config().getColorSpaceNames())
    first = [name for name in usual if _config().getColorSpace(name) is not None]
    return (*first, *(name for name in names if name not in first))


def guess_colour_space(suffix: str, *, is_float: bool, transfer: str = "") -> str:
    """Return the likely colour space of files: by pixel type and, where the file tells it, its transfer.

    Parameters
    ----------
    suffix : str
        Of the file name, with the dot.
    is_float : bool
        Whether pixels are stored as floating point.
    transfer : str
        What the file says of its transfer curve, as OpenImageIO names it.
    """
    words = transfer.lower()
    if is_float or "linear" in words:
        return SCENE_LINEAR
    if suffix.lower() in {".dpx", ".cin"} and ("print" in words or "log" in words or suffix.lower() == ".cin"):
        return "ADX10"
    return SRGB


@lru_cache(maxsize=32)
def _processor(source: str, target: str) -> ocio.CPUProcessor:
    try:
        return _config().getProcessor(source, target).getOptimizedCPUProcessor(ocio.OPTIMIZATION_LOSSLESS)
    except ocio.Exception as error:
        raise FootageError(
            f"The colour space {source!r} is not in the colour configuration; choose another for this footage."
        ) from error


def _converted(picture: NDArray[np.generic], source: str, target: str) -> Picture:
    out = as_floats(picture)
    processor = _processor(source, target)
    if not processor.isNoOp():
        processor.applyRGB(out)
    return out


@lru_cache(maxsize=16)
def _curve(space: str, levels: int) -> NDArray[np.float32] | None:
    """Return the linear values of all integer levels if the space treats channels apart, else None."""
    ramp = np.linspace(0, 1, levels, dtype=np.float32)
    grey = np.repeat(ramp[:, None], 3, axis=1)[None].astype(np.float32)
    linear = _converted(grey, space, SCENE_LINEAR)[0]
    probe: Picture = np.eye(3, dtype=np.float32)[None]
    apart = _converted(probe, space, SCENE_LINEAR)[0]
    crosstalk = np.abs(apart - np.diag(np.diag(apart))).max()
    if crosstalk > 1e-5 or np.abs(linear - linear[:, :1]).max() > 1e-5:
        return None
    return np.ascontiguousarray(linear[:, 1])


def decode(pixels: NDArray[np.generic], space: str) -> Picture:
    """Return file pixels as scene-linear float32.

    Parameters
    ----------
    pixels : (H, W, 3) uint8, uint16, float16 or float32
        As stored in the file; integers span 0 to 1. Not modified.
    space : str
        The files' colour space.

    Raises
    ------
    FootageError
        If there is no such colour space.
    """
    if pixels.dtype in (np.uint8, np.uint16):
        levels = 256 if pixels.dtype == np.uint8 else 65536
        curve = _curve(space, levels)
        if curve is not None:
            return curve[pixels]
        return _converted(pixels.astype(np.float32) / np.float32(levels - 1), space, SCENE_LINEAR)
    return _converted(pixels, space, SCENE_LINEAR)


def encode(picture: Picture, space: str, dtype: np.dtype) -> NDArray[np.generic]:
    """Return scene-linear pixels as a file of that colour space and pixel type holds them.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Not modified.
    space : str
        The files' colour space.
    dtype : numpy.dtype
        uint8 and uint16 are clipped to 0..1, scaled and rounded; floats are kept as they are.
    """
    encoded = _converted(picture, SCENE_LINEAR, space)
    if dtype.kind == "u":
        top = np.iinfo(dtype).max
        return (np.clip(encoded, 0, 1) * top + 0.5).astype(dtype)
    if dtype == np.float16:
        return as_halves(np.clip(encoded, -65504, 65504))
    return encoded.astype(dtype)


@dataclass(frozen=True, slots=True)
class Display:
    """How scene-linear pixels are shown: device, view, and a push of the display alone.

    `exposure_stops` brightens before the transform, `gamma` lifts after it; neither touches the work.
    """

    device: str = "sRGB - Display"
    view: str = "Un-tone-mapped"
    exposure_stops: float = 0.0
    gamma: float = 1.0


DEFAULT_DISPLAY = Display()


def views() -> tuple[tuple[str, str], ...]:
    """Return all (device, view) pairs of the configuration."""
    config = _config()
    return tuple((device, view) for device in config.getDisplays() for view in config.getViews(device))


_STEP_BITS = 14  # of a float32's 23 bits of mantissa 9 are kept: steps of 0.2 %, under a fifth of a display level
_LOW_STEP = int(np.float32(2.0**SHAPER_LOW).view(np.int32)) >> _STEP_BITS
_HIGH_STEP = int(np.float32(2.0**SHAPER_HIGH).view(np.int32)) >> _STEP_BITS


def _steps() -> NDArray[np.float64]:
    """Return the middle of each step of the number line that the tables know; the first also stands for 0."""
    bits = (np.arange(_LOW_STEP, _HIGH_STEP + 1) << _STEP_BITS) + (1 << (_STEP_BITS - 1))
    values = bits.astype(np.int32).view(np.float32).astype(np.float64)
    values[0] = 0.0
    return values


def _displayed(values: NDArray[np.floating], device: str, view: str) -> NDArray[np.float32]:
    flat = np.array(values, np.float32, order="C").reshape(1, -1, 3)
    transform = ocio.DisplayViewTransform(src=SCENE_LINEAR, display=device, view=view)
    _config().getProcessor(transform).getDefaultCPUProcessor().applyRGB(flat)
    return flat.reshape(values.shape)


@lru_cache(maxsize=32)
def _curve_for(display: Display) -> NDArray[np.uint8] | None:
    """Return display levels a step and channel, or None where the transform mixes channels."""
    probe = np.array([[0.5, 0.1, 0.02], [0.5, 0.5, 0.5], [0.1, 0.1, 0.1], [0.02, 0.02, 0.02]])
    shown = _displayed(probe, display.device, display.view)
    if np.abs(shown[0] - np.diag(shown[1:])).max() > 1e-3:
        return None
    ramp = _displayed(
        np.repeat(_steps()[:, None], 3, axis=1) * 2.0**display.exposure_stops, display.device, display.view
    )
    return (np.clip(ramp, 0, 1) ** (1 / display.gamma) * 255 + 0.5).astype(np.uint8)


@lru_cache(maxsize=4)
def _cube_for(display: Display) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Return a shaper (place in the cube a step) and the cube of display levels."""
    offset = 2.0**SHAPER_LOW
    places = (np.log2(_steps() + offset) - SHAPER_LOW) / (SHAPER_HIGH - SHAPER_LOW) * (CUBE_SIZE - 1)
    axis = 2.0 ** np.linspace(SHAPER_LOW, SHAPER_HIGH, CUBE_SIZE) - offset
    grid = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1) * 2.0**display.exposure_stops
    levels = np.clip(_displayed(grid, display.device, display.view), 0, 1) ** (1 / display.gamma) * 255
    return np.clip(places, 0, CUBE_SIZE - 1).astype(np.float32), levels.astype(np.float32)


def show(picture: Picture, display: Display = DEFAULT_DISPLAY) -> NDArray[np.uint8]:
    """Return pixels for the screen.

    OpenColorIO's transform is baked: into a curve a channel where it treats channels apart, else into a log
    shaper and a 3D table.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear. Not modified.
    display : Display

    Returns
    -------
    (H, W, 4) uint8
        Blue, green, red, 255: the order of a 32-bit picture on a little-endian machine.
    """
    from gommage.core.picture.kernels import apply_cube, apply_curve  # compiled code is loaded late

    out = np.empty((*picture.shape[:2], 4), np.uint8)
    bits = np.ascontiguousarray(picture, np.float32).view(np.int32)
    curve = _curve_for(display)
    if curve is not None:
        apply_curve(bits, _LOW_STEP, curve, out)
    else:
        apply_cube(bits, _LOW_STEP, *_cube_for(display), out)
    return out
