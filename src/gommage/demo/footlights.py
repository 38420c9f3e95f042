"""Shots 10 and 11 of the paper theatre, footlights all round: a panoramic camera on a tripod on the stage.

In one clip it stands, in the other it is turned by hand. The tripod and its shadow are below.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import ClassVar

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import Footage
from gommage.core.geometry import axis_turn, directions_of
from gommage.core.picture import Picture
from gommage.demo.backstage import parlour, wood
from gommage.demo.filming import FINER, FilmedShot, Filming, finer, maker, save_frame, with_grain
from gommage.demo.painting import Canvas, linear, paper_grain
from gommage.demo.stage_hand import backdrop as town

__all__ = ["FootlightsShot", "TurnedFootlightsShot", "make_footlights", "make_turned_footlights", "turn_of"]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 2880, 1440, 16, 1001
VERSION, SEED = 1, 131
EYE, HALF, TALL = 1.5, 3.2, 3.0
"""The camera over the floor, half the width of the stage, and how high its walls stand."""
HUB_BELOW = 0.28
"""The tripod is painted on sheets this far and more below the lens."""
LEG_PX, TRIPOD_PX = 34.0, 900
TILE_PX, TILES = 110, 12
"""The carpet repeats after so many pixels of its sheet, which is `HALF` wide to either side."""
PROJECTION = {"textureformat": "LatLong Environment", "GPano:ProjectionType": "equirectangular"}
"""How files say that they hold a panorama."""
SUPERSAMPLED, BAND_ROWS = 2, 120
Floats = NDArray[np.float64]


@lru_cache(maxsize=8)
def _painted(paint: Callable[[], Picture]) -> Picture:
    return finer(paint())


def _ceiling() -> Picture:
    """Return rafters with lamps."""
    size = 900, 900
    sheet = Canvas(size, "3a3030", seed=SEED)
    for x in range(20, 900, 120):
        sheet.wash([(x, 0), (x + 46, 0), (x + 46, 900), (x, 900)], "5a473a")
        sheet.ink([(x, 0), (x, 900)], 3)
        sheet.ink([(x + 46, 0), (x + 46, 900)], 3)
    for x in range(100, 900, 200):
        for y in range(90, 900, 180):
            angle = np.linspace(0, 2 * np.pi, 30)
            lamp = np.column_stack([x + 26 * np.cos(angle), y + 26 * np.sin(angle)])
            sheet.fill(lamp, "f6e2a8")
            sheet.ink(lamp, 3, closed=True)
    return sheet.finish(paper_grain(size, sheet.rng, 0.05))


def _carpet() -> Picture:
    """Return a woven carpet that repeats exactly: what a tile hides its neighbours show, so that it can be judged."""
    tile = Canvas((TILE_PX, TILE_PX), "7a3f3a", seed=SEED + 2)
    low, high = TILE_PX * 0.12, TILE_PX * 0.88
    tile.wash([(low, low), (high, low), (high, high), (low, high)], "a5653f")
    angle = np.linspace(0, 2 * np.pi, 17)
    reach = np.where(np.arange(17) % 2, 0.16, 0.36) * TILE_PX
    star = np.column_stack([TILE_PX / 2 + reach * np.cos(angle), TILE_PX / 2 + reach * np.sin(angle)])
    tile.wash(star, "e2c07a")
    tile.ink(star, 2, "3a2320", closed=True)
    tile.ink([(low, low), (high, low), (high, high), (low, high)], 2, "3a2320", closed=True)
    for _ in range(26):
        x, y = tile.rng.uniform(8, TILE_PX - 14, 2)
        tile.ink([(x, y), (x + 6, y + 2)], 1.3, "2b1d18", 0.5)
    one = tile.finish(paper_grain((TILE_PX, TILE_PX), tile.rng, 0.06))
    out: Picture = np.tile(one, (TILES, TILES, 1))
    return out


def _tripod() -> Picture:
    """Return the tripod from above: three legs and a hub, (h, w, 4)."""
    size = TRIPOD_PX, TRIPOD_PX
    sheet = Canvas(size, "2c2d31", seed=SEED + 1)
    middle = TRIPOD_PX / 2
    shape = np.zeros((TRIPOD_PX, TRIPOD_PX), np.float32)
    for turn in np.deg2rad([20.0, 140.0, 260.0]):
        along, beside = np.array([np.cos(turn), np.sin(turn)]), np.array([-np.sin(turn), np.cos(turn)])
        tip = middle + along * 260
        leg = np.array([middle + beside * LEG_PX / 2, tip + beside * LEG_PX / 4, tip - beside * LEG_PX / 4,
                        middle - beside * LEG_PX / 2])  # fmt: skip
        shape = np.maximum(shape, sheet.mask(leg))
        for share in (0.3, 0.6, 0.85):
            at = middle + along * 260 * share
            sheet.ink([at - beside * 12, at + beside * 12], 5, "8d8f96")
    angle = np.linspace(0, 2 * np.pi, 40)
    hub = np.column_stack([middle + 92 * np.cos(angle), middle + 92 * np.sin(angle)])
    sheet.fill(hub, "46484f")
    sheet.ink(hub, 4, "8d8f96", closed=True)
    sheet.alpha = np.maximum(shape, sheet.mask(hub))
    return sheet.finish(paper_grain(size, sheet.rng, 0.03))


def turn_of(frame: int, *, is_turned: bool) -> Floats:
    """Return how the camera is turned on a frame, (3, 3): from directions of the stage to its own."""
    if not is_turned:
        return np.eye(3)
    time = frame - FIRST_FRAME
    yaw = np.deg2rad(18.0 * time / (FRAMES - 1) + 0.5 * np.sin(time * 0.9))
    pitch, roll = np.deg2rad(1.2 * np.sin(time * 0.5)), np.deg2rad(1.0 * np.sin(time * 0.37 + 1))
    turn: Floats = (
        axis_turn(np.array([pitch, 0, 0])) @ axis_turn(np.array([0, 0, roll])) @ axis_turn(np.array([0, -yaw, 0]))
    )
    return turn


# -- what each direction sees -------------------------------------------------------------------------------


def _sampled(sheet: Picture, u: Floats, v: Floats) -> Picture:
    """Return a sheet where shares of its width and height are seen, (h, w, 4)."""
    height, width = sheet.shape[:2]
    return cv2.remap(sheet, (u * width - 0.5).astype(np.float32), (v * height - 0.5).astype(np.float32),
                     cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)  # fmt: skip


def _set_where(out: Picture, seen: NDArray[np.bool_], sheet: Picture, u: Floats, v: Floats) -> None:
    """Set a picture (h, w, 3) to a sheet where it is seen: only the rectangle round that is looked at."""
    rows, columns = (np.nonzero(seen.any(axis=axis))[0] for axis in (1, 0))
    if len(rows):
        part = slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1)
        out[part][seen[part]] = _sampled(sheet, u[part], v[part])[seen[part]][:, :3]


def _stage(rays: Floats) -> Picture:
    """Return what directions (h, w, 3) see of the empty stage, (h, w, 3)."""
    x, y, z = np.moveaxis(rays, -1, 0)
    walls = (
        (z, x, "town"), (-z, -x, "wood"), (x, -z, "parlour"), (-x, z, "town"),
    )  # fmt: skip
    with np.errstate(divide="ignore"):
        sideways = HALF / np.maximum(np.maximum(np.abs(x), np.abs(z)), 1e-9)
        down, up = EYE / np.maximum(y, 1e-9), (TALL - EYE) / np.maximum(-y, 1e-9)
    out = np.zeros((*rays.shape[:2], 3), np.float32)
    paints = {"town": town, "wood": wood, "parlour": parlour}
    for depth, across, name in walls:
        seen = (depth > 0) & (np.maximum(np.abs(x), np.abs(z)) == depth) & (sideways <= down) & (sideways <= up)
        share_x, share_y = (across * sideways / HALF + 1) / 2, (y * sideways + TALL - EYE) / TALL
        _set_where(out, seen, _painted(paints[name]), share_x, share_y)
    for reach, sheet in ((down, _carpet), (up, _ceiling)):
        seen = (reach < sideways) & (reach < (up if sheet is _carpet else down))
        _set_where(out, seen, _painted(sheet), (x * reach / HALF + 1) / 2, (z * reach / HALF + 1) / 2)
    return out


def _below(rays: Floats, height: float, reach: float) -> tuple[Floats, Floats, NDArray[np.bool_]]:
    """Return where directions meet a level sheet below the lens, as shares of its sides, and where they do."""
    x, y, z = np.moveaxis(rays, -1, 0)
    far = height / np.maximum(y, 1e-6)
    u, v = (x * far / reach + 1) / 2, (z * far / reach + 1) / 2
    return u, v, (y > 0.05) & (u > 0) & (u < 1) & (v > 0) & (v < 1)


@lru_cache(maxsize=1)
def _dark() -> Picture:
    """Return how dark the tripod's shadow is, on its sheet."""
    return cv2.GaussianBlur(_painted(_tripod)[..., 3], (0, 0), 26.0 * FINER / 2)


def _shadow(rays: Floats) -> Picture:
    """Return how much light the tripod takes from the floor, (h, w)."""
    u, v, seen = _below(rays, EYE, 2.3)
    found = _sampled(_dark(), u - 0.055, v - 0.035)
    shadow: Picture = np.where(seen, 0.5 * found, 0.0).astype(np.float32)
    return shadow


def _bands() -> list[tuple[int, Floats]]:
    """Return directions of some rows of the panorama at a time, finer than its pixels, and the first row of each."""
    wide, high = WIDTH * SUPERSAMPLED, HEIGHT * SUPERSAMPLED
    found = []
    for top in range(0, HEIGHT, BAND_ROWS):
        y, x = np.mgrid[top * SUPERSAMPLED : (top + BAND_ROWS) * SUPERSAMPLED, 0:wide] + 0.5
        found.append((top, directions_of(np.stack([x, y], axis=-1), (wide, high))))
    return found


def _smaller(picture: Picture) -> Picture:
    return cv2.resize(picture.astype(np.float32), (WIDTH, BAND_ROWS), interpolation=cv2.INTER_AREA)


def _exposed(frame: int, *, is_turned: bool) -> tuple[Picture, Picture, Picture]:
    """Return the clean panorama, the one with the tripod, and how far tripod or shadow cover it."""
    time = frame - FIRST_FRAME
    if is_turned:
        clean, dirty, covered = _lit(turn_of(frame, is_turned=True))
    else:
        clean, dirty, covered = _standing()
    light = np.float32(1 + 0.05 * np.sin(time * 0.5) + 0.01 * np.sin(time * 2.1)) * linear("fff4e2")
    return clean * light, dirty * light, covered


@lru_cache(maxsize=1)
def _standing() -> tuple[Picture, Picture, Picture]:
    return _lit(np.eye(3))


def _lit(turn: Floats) -> tuple[Picture, Picture, Picture]:
    clean, dirty = np.zeros((2, HEIGHT, WIDTH, 3), np.float32)
    covered = np.zeros((HEIGHT, WIDTH), np.float32)
    for top, rays in _bands():
        rows = slice(top, top + BAND_ROWS)
        seen = _stage(rays @ turn)
        clean[rows] = _smaller(seen)
        if not (rays[..., 1] > 0).any():  # above the horizon there is no tripod
            dirty[rows] = clean[rows]
            continue
        shadow = _shadow(rays)  # the tripod turns with the camera
        u, v, is_there = _below(rays, HUB_BELOW, 0.5)
        tripod = _sampled(_painted(_tripod), u, v) * is_there[..., None]
        dirty[rows] = _smaller(seen * (1 - shadow)[..., None] * (1 - tripod[..., 3:]) + tripod[..., :3])
        covered[rows] = _smaller(np.maximum(shadow, tripod[..., 3]))
    return clean, dirty, covered


@dataclass(frozen=True, slots=True)
class FootlightsShot(FilmedShot):
    """Where shot 10 is on disk, and the truth about it. Adds ``tripod/``."""

    filming = Filming("footlights", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)
    is_turned: ClassVar[bool] = False

    @property
    def footage(self) -> Footage:
        """The plate as footage of a project: a panorama."""
        return replace(super(FootlightsShot, self).footage, is_panorama=True)

    @classmethod
    def turn(cls, frame: int) -> Floats:
        """Return how the camera is truly turned on a frame, (3, 3)."""
        return turn_of(frame, is_turned=cls.is_turned)

    def covered(self, frame: int) -> Picture:
        """Return how far tripod or shadow cover a frame, (H, W) 0 to 1."""
        from gommage.core.document import SCENE_LINEAR
        from gommage.core.picture.footage import read_picture

        return read_picture(self.folder / "tripod" / f"tripod.{frame}.exr", SCENE_LINEAR)[..., 0]


@dataclass(frozen=True, slots=True)
class TurnedFootlightsShot(FootlightsShot):
    """Where shot 11 is on disk: the camera is turned by hand."""

    filming = Filming("footlights", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED + 1)
    is_turned: ClassVar[bool] = True


def _draw(folder: Path, frame: int, *, is_turned: bool) -> int:
    clean, dirty, covered = _exposed(frame, is_turned=is_turned)
    seed = (TurnedFootlightsShot if is_turned else FootlightsShot).filming.seed
    plate = with_grain(dirty, (seed, frame))
    save_frame(folder, frame, "footlights", PROJECTION, plate=plate, clean=clean, tripod=covered)
    return frame


def _draw_still(folder: Path, frame: int) -> int:
    return _draw(folder, frame, is_turned=False)


def _draw_turned(folder: Path, frame: int) -> int:
    return _draw(folder, frame, is_turned=True)


def footlights_at(root: Path) -> FootlightsShot:
    """Return shot 10 as it is, or is being, drawn into a folder."""
    return FootlightsShot(root / f"footlights-{VERSION}")


def turned_footlights_at(root: Path) -> TurnedFootlightsShot:
    """Return shot 11 as it is, or is being, drawn into a folder."""
    return TurnedFootlightsShot(root / f"footlights-turned-{VERSION}")


make_footlights = maker(footlights_at, VERSION, _draw_still, ("plate", "clean", "tripod"))
"""Draws it, see `filming.maker`."""
make_turned_footlights = maker(turned_footlights_at, VERSION, _draw_turned, ("plate", "clean", "tripod"))
"""Draws it, see `filming.maker`."""
