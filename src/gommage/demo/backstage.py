"""Shot 9 of the paper theatre, backstage: a walk past set pieces, a stage hand among them, two crates on the floor."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from gommage.core.document import SCENE_LINEAR
from gommage.core.geometry import Lens, Mapping, Matrix, Points, ThroughLens, Window, around, plane_motion
from gommage.core.picture import Picture
from gommage.core.picture.footage import read_picture
from gommage.demo.filming import FINER, FilmedShot, Filming, finer, maker, moments, save_frame, through_lens, with_grain
from gommage.demo.painting import Canvas, linear, paper_grain, smooth_noise
from gommage.demo.passer_by import HIP, walker_parts

__all__ = [
    "FIRST_FRAME",
    "FRAMES",
    "LENS",
    "PIECES",
    "BackstageShot",
    "backstage_at",
    "floor_boards",
    "make_backstage",
    "parlour",
    "wood",
]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 960, 540, 100, 1001
SHUTTER_SAMPLES = 5
VERSION, SEED = 1, 91
LENS = Lens(1010.0, WIDTH / 2, HEIGHT / 2, -0.085, 0.02)
"""How the shot is filmed: a slight barrel."""
EYE, PITCH = 1.55, np.deg2rad(11.0)
"""The camera's height over the floor, and by how much it looks down."""
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Sheet:
    """A painted sheet in the scene: x right, y down from the eye, z into it.

    Attributes
    ----------
    paint : callable
        Gives its pixels, (h, w, 4).
    corner, across, down : tuple of float
        Where its pixel (0, 0) is, and where its sides lead, in units of the scene.
    """

    paint: Callable[[], Picture]
    corner: tuple[float, float, float]
    across: tuple[float, float, float]
    down: tuple[float, float, float]

    def axes(self) -> Floats:
        """Return from pixels (x, y, 1) of the sheet to the scene, (3, 3)."""
        height, width = painted(self.paint).shape[:2]
        across, down = np.array(self.across) * FINER / width, np.array(self.down) * FINER / height
        return np.column_stack([across, down, self.corner])

    @property
    def plane(self) -> tuple[Floats, float]:
        """Its normal (3,), of length 1, and how far along it the sheet lies."""
        normal = np.cross(self.across, self.down)
        normal = normal / np.linalg.norm(normal)
        return normal, float(normal @ np.array(self.corner))


# -- what is painted ----------------------------------------------------------------------------------------


def floor_boards() -> Picture:
    """Return boards, each of its own colour, ever less sharp towards the back, as they are ever smaller there."""
    size = 2200, 1500
    sheet = Canvas(size, "8a6a48", seed=SEED)
    colours = ("8f6d49", "7d5c3d", "9a7850", "86643f", "a3835c", "74563a")
    for index, left in enumerate(range(0, size[0], 88)):
        top = -float(sheet.rng.uniform(0, 300))
        while top < size[1]:
            long = float(sheet.rng.uniform(240, 520))
            board = [(left, top), (left + 88, top), (left + 88, top + long), (left, top + long)]
            sheet.wash(board, colours[(index * 5 + int(top)) % len(colours)], 0.9)
            for _ in range(7):
                x, y = left + sheet.rng.uniform(8, 80), top + sheet.rng.uniform(6, long - 40)
                sheet.ink([(x, y), (x + sheet.rng.uniform(-5, 5), y + sheet.rng.uniform(20, 110))], 1.5, "4a3320", 0.5)
            sheet.ink([(left, top), (left + 88, top)], 2.2, "2e1f14", 0.8)
            top += long
        sheet.ink([(left, 0), (left, size[1])], 2.6, "2e1f14", 0.8, wobble=0.4)
    for _ in range(120):
        x, y = sheet.rng.uniform(0, size[0]), sheet.rng.uniform(0, size[1])
        sheet.fill(_ring(x, y, *sheet.rng.uniform(3, 12, 2)), "d8c7a0" if sheet.rng.random() < 0.5 else "33261b", 0.5)
    out = sheet.finish(paper_grain(size, sheet.rng, 0.06))
    soft = [out, *(cv2.GaussianBlur(out, (0, 0), sigma_x, sigmaY=sigma_y) for sigma_x, sigma_y in ((1.2, 3), (3, 12)))]
    far = np.clip(np.linspace(2.4, -0.6, size[1]), 0, 2)[:, None, None].astype(np.float32)
    mixed: Picture = soft[0] * np.clip(1 - far, 0, 1) + soft[1] * (1 - np.abs(1 - far)).clip(0, 1)
    return (mixed + soft[2] * np.clip(far - 1, 0, 1)).astype(np.float32)


def _ring(x: float, y: float, wide: float, high: float) -> Points:
    angle = np.linspace(0, 2 * np.pi, 28, endpoint=False)
    return np.column_stack([x + wide * np.cos(angle), y + high * np.sin(angle)])


def _wall() -> Picture:
    """Return the bricks at the back, with posters."""
    size = 1800, 620
    sheet = Canvas(size, "7c4a3c", seed=SEED + 1)
    for row, y in enumerate(range(0, size[1], 34)):
        for x in range(-(row % 2) * 40, size[0], 80):
            tone = ("8a5142", "74432f", "945e4a", "6b3f33")[int(sheet.rng.integers(4))]
            brick = [(x + 2, y + 2), (x + 77, y + 2), (x + 77, y + 31), (x + 2, y + 31)]
            sheet.wash(brick, tone, 0.9)
    for index, x in enumerate((130, 480, 790, 1150, 1510)):
        paper = np.array([(x, 90), (x + 150, 84), (x + 154, 300), (x + 3, 306)], float)
        sheet.wash(paper, ("e8d9a8", "b9cfc0", "e2b79a", "cfd3e2", "e8e0c4")[index])
        sheet.ink(paper, 2.4, closed=True)
        sheet.text(("MOTH", "LANTERN", "TONIGHT", "PUPPETS", "ACT TWO")[index], (x + 10, 150), 0.9, 2, "3a2320")
        for line in range(5):
            sheet.ink([(x + 14, 180 + 22 * line), (x + 134, 178 + 22 * line)], 2, "4a3a33", 0.6)
    return sheet.finish(paper_grain(size, sheet.rng, 0.06))


def wood() -> Picture:
    """Return a flat of painted trees."""
    size = 700, 900
    sheet = Canvas(size, "3f5a45", seed=SEED + 2)
    sheet.shade(1 + 0.2 * smooth_noise(size, 60, sheet.rng))
    for _ in range(16):
        x, wide = sheet.rng.uniform(0, 700), sheet.rng.uniform(14, 40)
        trunk = [(x, 0), (x + wide, 0), (x + wide * 1.3, 900), (x - wide * 0.3, 900)]
        sheet.wash(trunk, ("6a523a", "7d684d", "54442f")[int(sheet.rng.integers(3))])
        sheet.ink([(x, 0), (x - 4, 900)], 2.2)
        for y in sheet.rng.uniform(0, 900, 14):
            sheet.ink([(x + 3, y), (x + wide, y + 9)], 1.8, strength=0.6)
    for _ in range(220):
        x, y = sheet.rng.uniform(0, 700), sheet.rng.uniform(0, 620)
        leaf = _ring(x, y, *sheet.rng.uniform(8, 22, 2))
        sheet.wash(leaf, ("86a05a", "a9b568", "5f8450", "c2b25e")[int(sheet.rng.integers(4))], 0.9)
        sheet.ink(leaf, 1.4, strength=0.5, closed=True)
    return sheet.finish(paper_grain(size, sheet.rng, 0.05))


def parlour() -> Picture:
    """Return a flat of papered wall with pictures."""
    size = 800, 940
    sheet = Canvas(size, "c7b08a", seed=SEED + 3)
    for x in range(0, 800, 64):
        sheet.wash([(x, 0), (x + 30, 0), (x + 30, 700), (x, 700)], "b99a76", 0.8)
        for y in range(20, 700, 52):
            sheet.fill(_ring(x + 15 + sheet.rng.uniform(-4, 4), y, 7, 9), "8d4f45", 0.8)
    sheet.wash([(0, 690), (800, 690), (800, 940), (0, 940)], "6e4a34")
    for x in range(10, 800, 90):
        panel = [(x, 716), (x + 72, 716), (x + 72, 910), (x, 910)]
        sheet.ink(panel, 3, closed=True)
        sheet.ink([(x + 12, 750), (x + 60, 880)], 1.8, strength=0.4)
    for x, y, wide, high in ((90, 130, 180, 140), (350, 90, 130, 220), (540, 160, 190, 130), (150, 400, 150, 190),
                             (430, 420, 240, 150)):  # fmt: skip
        frame = np.array([(x, y), (x + wide, y), (x + wide, y + high), (x, y + high)], float)
        sheet.wash(frame, "c99a45")
        sheet.wash(frame * 0.84 + 0.16 * frame.mean(axis=0), ("5c7d8a", "7d8a5c", "8a5c6f")[x % 3])
        sheet.ink(frame, 2.6, closed=True)
        for _ in range(6):
            at = frame.mean(axis=0) + sheet.rng.uniform(-0.3, 0.3, 2) * (wide, high)
            sheet.fill(_ring(float(at[0]), float(at[1]), 8, 12), "e9dcb8", 0.8)
    return sheet.finish(paper_grain(size, sheet.rng, 0.05))


def _crate_side(words: str, seed: int) -> Callable[[], Picture]:
    def paint() -> Picture:
        size = 240, 200
        sheet = Canvas(size, "b08a55", seed=seed)
        for y in range(0, 200, 40):
            sheet.wash([(0, y), (240, y), (240, y + 38), (0, y + 38)], ("b8935c", "a37d4b", "c29d68")[(y // 40) % 3])
            sheet.ink([(0, y), (240, y + 1)], 2.4)
        for x in (6, 210):
            sheet.wash([(x, 0), (x + 24, 0), (x + 24, 200), (x, 200)], "8e6a3c")
        if words:
            sheet.text(words, (44, 116), 1.1, 3, "3a2a1e")
        sheet.ink([(0, 0), (240, 0), (240, 200), (0, 200)], 4, closed=True)
        return sheet.finish(paper_grain(size, sheet.rng, 0.05))

    return paint


FLOOR = Sheet(floor_boards, (-5.5, EYE, 10.0), (11.0, 0, 0), (0, 0, -7.5))
WALL = Sheet(_wall, (-7.0, EYE - 4.2, 10.0), (14.0, 0, 0), (0, 4.2, 0))
WOOD = Sheet(wood, (-3.3, EYE - 2.6, 7.0), (1.85, 0, 0.7), (0, 2.6, 0))
PARLOUR = Sheet(parlour, (1.25, EYE - 2.7, 6.4), (2.0, 0, -0.75), (0, 2.7, 0))
PIECES = {"floor": FLOOR, "wall": WALL, "wood": WOOD, "parlour": PARLOUR}
CRATES = ((-0.75, 4.35, 0.62, 0.40, 0.34, 0.25, "MOTHS"), (0.5, 3.95, 0.5, 0.38, 0.3, -0.3, "GLUE"))
"""Middle x and z on the floor, width, depth, height, turn, and what is written on each."""
WALKER_Z, WALKER_UNITS = 6.7, 0.0041


def _crate_sheets(index: int) -> tuple[Sheet, ...]:
    """Return the sides of a crate that the camera may see, and its top."""
    x, z, wide, deep, high, turn, _ = CRATES[index]
    right = np.array([np.cos(turn), 0, np.sin(turn)]) * wide
    back = np.array([-np.sin(turn), 0, np.cos(turn)]) * deep
    lift, middle = np.array([0, high, 0]), np.array([x, EYE - high, z])
    front_left = middle - right / 2 - back / 2
    front, side = _painters(index)
    faces = (
        (side, front_left + back, right, -back),
        (side, front_left + back, -back, lift),
        (side, front_left + right, back, lift),
        (front, front_left, right, lift),
    )
    return tuple(Sheet(paint, tuple(corner), tuple(across), tuple(down)) for paint, corner, across, down in faces)


@lru_cache(maxsize=2)
def _painters(index: int) -> tuple[Callable[[], Picture], Callable[[], Picture]]:
    return _crate_side(CRATES[index][-1], SEED + 10 + index), _crate_side("", SEED + 20 + index)


@lru_cache(maxsize=24)
def painted(paint: Callable[[], Picture]) -> Picture:
    """Return a sheet's pixels, finely drawn."""
    return finer(paint())


# -- the camera ---------------------------------------------------------------------------------------------


def pose(time: float) -> tuple[Floats, Floats]:
    """Return how the camera is turned (3, 3), scene to camera, and where it is (3,), at a time in frames."""
    s = time / (FRAMES - 1)
    step = time * 0.52
    place = np.array([-0.75 + 1.35 * s, 0.016 * np.sin(2 * step), 0.05 + 0.55 * s + 0.02 * np.sin(step)])
    place += 0.006 * np.array([np.sin(time * 0.9 + 1), np.sin(time * 1.3), np.sin(time * 0.7 + 2)])
    yaw = np.deg2rad(4.5 - 8.5 * s + 0.35 * np.sin(step) + 0.12 * np.sin(time * 1.7))
    pitch = PITCH + np.deg2rad(0.4 * np.sin(2 * step + 1) + 0.1 * np.sin(time * 1.9 + 2))
    roll = np.deg2rad(0.5 * np.sin(step + 0.7))
    turn_y = np.array([[np.cos(yaw), 0, -np.sin(yaw)], [0, 1, 0], [np.sin(yaw), 0, np.cos(yaw)]])
    turn_x = np.array([[1, 0, 0], [0, np.cos(pitch), -np.sin(pitch)], [0, np.sin(pitch), np.cos(pitch)]])
    turn_z = np.array([[np.cos(roll), -np.sin(roll), 0], [np.sin(roll), np.cos(roll), 0], [0, 0, 1]])
    return turn_z @ turn_x @ turn_y, place


def motion_between(sheet: Sheet, home_frame: int, frame: int) -> Mapping:
    """Return the motion of what lies on a sheet's plane, as it is in the middle of both frames' exposures."""
    normal, distance = sheet.plane
    (home_turn, home_place), (turn, place) = pose(home_frame - FIRST_FRAME), pose(frame - FIRST_FRAME)
    plane = (home_turn @ normal) / (distance - normal @ home_place)
    poses = ((home_turn, -home_turn @ home_place), (turn, -turn @ place))
    return ThroughLens(LENS, plane_motion(LENS, *poses, plane))


def moved_with(sheet: Sheet, points: Points, frame: int, home_frame: int) -> Points:
    """Return where home pixels (N, 2) on a sheet's plane truly are on a frame: in the middle of what they pass."""
    normal, distance = sheet.plane
    wanted, there = points, np.zeros((len(points), 3))
    for _ in range(4):
        straight = (LENS.straightened(wanted) - (LENS.middle_x, LENS.middle_y)) / LENS.focal_px
        turn, place = pose(home_frame - FIRST_FRAME)
        rays = np.column_stack([straight, np.ones(len(points))]) @ turn
        there = place + rays * ((distance - normal @ place) / (rays @ normal))[:, None]
        wanted = wanted + points - passed_at(there, home_frame)
    return passed_at(there, frame)


def passed_at(points: Floats, frame: int) -> Points:
    """Return where points (..., 3) of the scene are on a frame, in the middle of what they pass."""
    times = moments(frame - FIRST_FRAME, SHUTTER_SAMPLES)
    middle: Points = np.mean([seen_at(points, moment) for moment in times], axis=0)
    return middle


def seen_at(points: Floats, time: float) -> Points:
    """Return where points (..., 3) of the scene are in the picture at a time; NaN behind the camera."""
    turn, place = pose(time)
    there = (points - place) @ turn.T
    flat = np.where(there[..., 2:] > 0.05, there[..., :2] / there[..., 2:], np.nan)
    return LENS.bent(flat * LENS.focal_px + (LENS.middle_x, LENS.middle_y))


# -- filming ------------------------------------------------------------------------------------------------


@lru_cache(maxsize=1)
def _straight() -> Floats:
    """Return where each pixel would be through a lens that bends nothing, (h, w, 2)."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH] + 0.5
    return LENS.straightened(np.stack([x, y], axis=-1))


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def _film_through(rgba: Picture, to_sheet: Matrix, straight: Floats, below: Picture, alpha: Picture) -> None:
    """Lay a sheet (H, W, 4) over a picture as straight pixels see it, and how far it covers, in place."""
    height, width = rgba.shape[:2]
    one = np.float32(1)
    for row in range(below.shape[0]):
        for column in range(below.shape[1]):
            x, y = straight[row, column, 0], straight[row, column, 1]
            w = to_sheet[2, 0] * x + to_sheet[2, 1] * y + to_sheet[2, 2]
            if not w > 1e-9:
                continue
            u = (to_sheet[0, 0] * x + to_sheet[0, 1] * y + to_sheet[0, 2]) / w - 0.5
            v = (to_sheet[1, 0] * x + to_sheet[1, 1] * y + to_sheet[1, 2]) / w - 0.5
            # a sheet ends where its own edge covers half a pixel: cut straight, softened by the shutter and the lens
            if not (0 <= u < width - 1 and 0 <= v < height - 1):
                continue
            i, j = int(u), int(v)
            s, t = np.float32(u - i), np.float32(v - j)
            above = rgba[j, i, 3] * (one - s) + rgba[j, i + 1, 3] * s
            under = rgba[j + 1, i, 3] * (one - s) + rgba[j + 1, i + 1, 3] * s
            keep = one - (above * (one - t) + under * t)
            for c in range(3):  # number by number: whole pixels would be made room for one by one
                above = rgba[j, i, c] * (one - s) + rgba[j, i + 1, c] * s
                under = rgba[j + 1, i, c] * (one - s) + rgba[j + 1, i + 1, c] * s
                below[row, column, c] = below[row, column, c] * keep + above * (one - t) + under * t
            alpha[row, column] = one - keep * (one - alpha[row, column])


def _lay(sheet_axes: Floats, rgba: Picture, time: float, below: Picture, alpha: Picture, shown: Window) -> None:
    turn, place = pose(time)
    axes = sheet_axes.copy()
    axes[:, 2] -= place
    to_sheet = np.linalg.solve(LENS.inner @ turn @ axes, np.eye(3))
    to_sheet[:2] *= FINER
    straight = _straight()[shown.slices]
    _film_through(rgba, to_sheet, straight, below[shown.slices], alpha[shown.slices])


def _walker(time: float) -> list[tuple[Floats, Picture]]:
    """Return the parts of the stage hand: axes in the scene, pixels."""
    s = (time + 6) / (FRAMES + 10)
    middle = np.array([2.6 - 4.6 * s, EYE - 0.94 + 0.015 * abs(np.sin(time * 0.42)), WALKER_Z])
    parts = []
    for paint, in_sheet in walker_parts(0.5 * float(np.sin(time * 0.42))):
        base = np.array([[WALKER_UNITS, 0, 0], [0, WALKER_UNITS, 0], [0, 0, 0.0]])
        axes = np.asarray(base @ in_sheet, np.float64)
        axes[:, 2] += middle - base @ (*HIP, 1.0)
        parts.append((axes, painted(paint)))
    return parts


FULL = Window.of(WIDTH, HEIGHT)


def _light(time: float) -> NDArray[np.float32]:
    """Return the exposure (3,) at a time: the lamps come up, and turn warmer."""
    s = time / (FRAMES - 1)
    stops = -0.25 + 0.5 * s + 0.03 * np.sin(time * 0.8)
    return (2.0 ** (stops * np.array([1.0, 0.95, 0.8]))).astype(np.float32)


def _exposed(time: float) -> tuple[Picture, Picture, Picture, Picture]:
    """Return the clean frame, the frame with crates, how far crates cover it, and how far the stage hand does."""
    clean, dirty = np.zeros((2, HEIGHT, WIDTH, 3), np.float32)
    crates, hand = np.zeros((2, HEIGHT, WIDTH), np.float32)
    for moment in moments(time, SHUTTER_SAMPLES):
        seen = np.zeros((HEIGHT, WIDTH, 3), np.float32)
        seen[:] = linear("221c1a")
        there = np.zeros((HEIGHT, WIDTH), np.float32)
        for sheet in (WALL, FLOOR, WOOD):
            _lay(sheet.axes(), painted(sheet.paint), moment, seen, there, FULL)
        there[:] = 0
        for axes, rgba in _walker(moment):
            _lay(axes, rgba, moment, seen, there, FULL)
        in_front = np.zeros_like(there)
        _lay(PARLOUR.axes(), painted(PARLOUR.paint), moment, seen, in_front, FULL)
        hand += there * (1 - in_front)
        clean += seen
        covered = np.zeros_like(there)
        for index in range(len(CRATES)):
            for sheet in _crate_sheets(index):
                normal, distance = sheet.plane
                if normal @ pose(moment)[1] < distance:  # its painted side looks towards the camera
                    near = around(seen_at(_corners(sheet), moment), 3) & FULL
                    if not near.is_empty:
                        _lay(sheet.axes(), painted(sheet.paint), moment, seen, covered, near)
        dirty += seen
        crates += covered
    light = _light(time) / SHUTTER_SAMPLES
    share = np.float32(1 / SHUTTER_SAMPLES)
    return through_lens(clean * light), through_lens(dirty * light), through_lens(crates * share), hand * share


def _corners(sheet: Sheet) -> Floats:
    corner, across, down = (np.array(one) for one in (sheet.corner, sheet.across, sheet.down))
    return np.stack([corner, corner + across, corner + across + down, corner + down])


@dataclass(frozen=True, slots=True)
class BackstageShot(FilmedShot):
    """Where shot 9 is on disk, and the truth about it. Adds ``crates/`` and ``hand/``."""

    filming = Filming("backstage", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def covered(self, frame: int) -> Picture:
        """Return how far the crates cover a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "crates" / f"crates.{frame}.exr", SCENE_LINEAR)[..., 0]

    def hand(self, frame: int) -> Picture:
        """Return how far the stage hand is seen on a frame, (H, W) 0 to 1."""
        return read_picture(self.folder / "hand" / f"hand.{frame}.exr", SCENE_LINEAR)[..., 0]

    @staticmethod
    def moved(piece: str, points: Points, frame: int, home_frame: int) -> Points:
        """Return where home pixels (N, 2) on a piece's plane truly are on a frame."""
        return moved_with(PIECES[piece], points, frame, home_frame)

    @staticmethod
    def piece_corners(piece: str, frame: int) -> Points:
        """Return where the corners (4, 2) of a piece are on a frame."""
        return seen_at(_corners(PIECES[piece]), frame - FIRST_FRAME)

    @staticmethod
    def crate_outline(index: int, frame: int) -> Points:
        """Return the outline (N, 2) of a crate on a frame."""
        x, z, wide, deep, high, turn, _ = CRATES[index]
        right = np.array([np.cos(turn), 0, np.sin(turn)]) * wide / 2
        back = np.array([-np.sin(turn), 0, np.cos(turn)]) * deep / 2
        corners = [np.array([x, EYE - up, z]) + a * right + b * back
                   for up in (0.0, high) for a in (-1, 1) for b in (-1, 1)]  # fmt: skip
        points = seen_at(np.array(corners), frame - FIRST_FRAME)
        hull = cv2.convexHull(points.astype(np.float32)).reshape(-1, 2)
        return hull.astype(np.float64)


def _draw(folder: Path, frame: int) -> int:
    """Draw one frame into a folder."""
    clean, dirty, crates, hand = _exposed(frame - FIRST_FRAME)
    plate = with_grain(dirty, (SEED, frame))
    save_frame(folder, frame, "backstage", plate=plate, clean=clean, crates=crates, hand=hand)
    return frame


def backstage_at(root: Path) -> BackstageShot:
    """Return shot 9 as it is, or is being, drawn into a folder."""
    return BackstageShot(root / f"backstage-{VERSION}")


make_backstage = maker(backstage_at, VERSION, _draw, ("plate", "clean", "crates", "hand"))
"""Draws it, see `filming.maker`."""
