"""Shot 2 of the paper theatre: crosses of tape on a sky, a puppet with a fringe of paper hair, a swinging lantern."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import SCENE_LINEAR
from gommage.core.geometry import Camera, Mapping, Points, Window, around, composed, lengths_along, shift, then, turning
from gommage.core.picture import Picture
from gommage.core.picture.footage import read_picture
from gommage.demo.filming import (
    FINER,
    FilmedShot,
    Filming,
    filmed,
    finer,
    lay_over,
    maker,
    moments,
    save_frame,
    through_lens,
    with_grain,
)
from gommage.demo.painting import Canvas, linear, paper_grain, smooth_noise

__all__ = [
    "CROSSES",
    "FOLDERS",
    "MATTES",
    "PUPPET_SIZE",
    "SKY_SIZE",
    "CrossesShot",
    "draw_crosses",
    "make_crosses",
    "puppet_head",
    "sky_sheet",
]

WIDTH, HEIGHT, FRAMES, FIRST_FRAME = 1920, 1080, 96, 1001
FOCAL_PX = 2250.0
SHUTTER_SAMPLES = 5
VERSION = 1
SEED = 8
"""Of the grain."""
FRONT = ("head", "hair", "lantern")
"""What passes in front; its mattes are the channels of one picture."""
MATTES = (*FRONT, "crosses")
FOLDERS = ("plate", "clean", "front", "crosses")
SKY_SIZE, SKY_UNITS, SKY_AWAY = (2400, 1500), 10.4, 9.0
PUPPET_SIZE, PUPPET_UNITS, PUPPET_AWAY = (900, 1000), 1.62, 5.0
LANTERN_SIZE, LANTERN_UNITS, LANTERN_AWAY = (240, 900), 0.42, 4.4
CROSSES = np.array(
    [[640, 430], [980, 360], [1330, 420], [1690, 370], [820, 720], [1190, 650], [1560, 740], [1830, 640]], float
)
"""(8, 2): the middles of the crosses on the sky's sheet."""
ARM_PX, TAPE_PX = 34.0, 15.0
BRIM_CROSS = 4
"""The cross that comes out from behind the brim of the hat."""
HAIR_TOP, HAIR_LONG, HAIR_WIDE, HAIR_GAP = 430.0, 205.0, 25.0, 9.0
SWAY_PX, SWAY_FRAMES = 9.0, 44.0
Floats = NDArray[np.float32]


def _ring(x: float, y: float, wide: float, high: float, start: float = 0.0, end: float = 360.0) -> Points:
    angle = np.deg2rad(np.linspace(start, end, 72, endpoint=end - start < 360))
    return np.column_stack([x + wide * np.cos(angle), y + high * np.sin(angle)])


def _inside(size: tuple[int, int], outline: Points) -> Floats:
    """Return the share of each pixel of a sheet that is inside an outline, exactly: it is the truth of the mattes."""
    from gommage.core.cover.kernels import coverage  # compiled: loaded late

    out = np.zeros((size[1], size[0]), np.float32)
    coverage(outline, 0, 0, out)
    return out


# -- sheets -------------------------------------------------------------------------------------------------


def sky_sheet() -> Floats:
    """Return the painted sky, (h, w, 4)."""
    sheet = Canvas(SKY_SIZE, "6fa3c4", seed=21)
    width, height = SKY_SIZE
    ramp = np.linspace(0, 1, height, dtype=np.float32)[:, None, None]
    sheet.colour[:] = linear("4f86b4") * (1 - ramp) + linear("d9cfae") * ramp
    sheet.shade(1 + 0.10 * smooth_noise(SKY_SIZE, 150, sheet.rng) + 0.05 * smooth_noise(SKY_SIZE, 34, sheet.rng))
    for _ in range(26):
        x, y = sheet.rng.uniform(80, width - 80), sheet.rng.uniform(90, height - 160)
        wide = sheet.rng.uniform(60, 190)
        for puff in range(4):
            at = x + (puff - 1.5) * wide * 0.45, y + sheet.rng.uniform(-14, 14)
            sheet.wash(_ring(*at, wide * 0.42, wide * 0.24), "e9e4d2", 0.45)
        sheet.ink(_ring(x, y + 8, wide, wide * 0.22, 10, 170), 2.2, "52708c", 0.35)
    for _ in range(90):
        x, y = sheet.rng.uniform(30, width - 30), sheet.rng.uniform(30, height - 30)
        sheet.ink([(x, y), (x + 14, y + 4)], 1.6, "3b5b78", 0.3)
    return sheet.finish(paper_grain(SKY_SIZE, sheet.rng, 0.06))


def cross_outline(index: int) -> Points:
    """Return a cross's outline on the sky's sheet, (12, 2)."""
    a, b = ARM_PX, TAPE_PX / 2
    corners = [
        (-b, -a),
        (b, -a),
        (b, -b),
        (a, -b),
        (a, b),
        (b, b),
        (b, a),
        (-b, a),
        (-b, b),
        (-a, b),
        (-a, -b),
        (-b, -b),
    ]
    return composed(turning(0.35 * np.sin(2.1 * index)), shift(*CROSSES[index]))(np.array(corners))


def _tape() -> Floats:
    sheet = Canvas(SKY_SIZE, "1d1d1f", seed=22)
    sheet.alpha[:] = 0
    for index in range(len(CROSSES)):
        outline = cross_outline(index)
        sheet.fill(outline, "d8452f" if index % 3 else "e7e3d6", 0.95)
        sheet.ink(outline, 1.4, "571a12", 0.5, closed=True, wobble=0.3)
        sheet.alpha = np.maximum(sheet.alpha, _inside(SKY_SIZE, outline))
    return sheet.finish(paper_grain(SKY_SIZE, sheet.rng, 0.03))


HEAD = np.vstack([
    [(120, 330), (285, 300)], _ring(450, 200, 170, 175, 200, 340), [(615, 300), (780, 330), (770, 372), (640, 392)],
    _ring(450, 520, 168, 235, -18, 198), [(260, 392), (130, 372)],
])  # fmt: skip
"""The puppet's hat and face, (N, 2) on its sheet."""


def _head() -> Floats:
    sheet = Canvas(PUPPET_SIZE, "e2c29a", seed=23)
    face = _ring(450, 520, 168, 235)
    sheet.wash(face, "e9c7a0")
    sheet.wash(np.vstack([[(120, 330), (285, 300)], _ring(450, 200, 170, 175, 200, 340), [(615, 300), (780, 330)],
                          [(770, 372), (640, 392), (450, 402), (260, 392), (130, 372)]]), "7c3f52")  # fmt: skip
    sheet.wash([(285, 300), (615, 300), (618, 334), (282, 334)], "d9a441")
    for row in range(5):
        for column in range(7):
            x, y = 318 + column * 44 + 16 * (row % 2), 70 + row * 46
            sheet.fill(_ring(x, y, 7, 9), "e8cf8e", 0.8)
            sheet.ink(_ring(x, y, 7, 9), 1.6, strength=0.5)
    for side in (-1, 1):
        sheet.fill(_ring(450 + side * 68, 500, 30, 19), "f6efe0")
        sheet.fill(_ring(450 + side * 68, 502, 11, 13), "2f2a2c")
        sheet.ink(_ring(450 + side * 68, 500, 30, 19), 2.4)
        sheet.ink(_ring(450 + side * 68, 462, 38, 14, 190, 350), 3.2)
        sheet.wash(_ring(450 + side * 96, 590, 34, 24), "d98f7c", 0.6)
        for freckle in range(9):
            x, y = 450 + side * (76 + 9 * freckle % 40), 560 + 7 * freckle
            sheet.fill(_ring(x, y, 2.6, 2.6), "a86a4d", 0.8)
    sheet.ink([(450, 500), (436, 585), (462, 590)], 3)
    sheet.wash(_ring(450, 660, 58, 19), "b8483f")
    sheet.ink(_ring(450, 650, 66, 26, 15, 165), 3)
    for y in range(420, 740, 26):
        sheet.ink([(320, y), (340, y + 9)], 1.6, strength=0.35)
        sheet.ink([(560, y), (580, y + 9)], 1.6, strength=0.35)
    sheet.ink(HEAD, 3, closed=True, wobble=0.6)
    sheet.alpha = _inside(PUPPET_SIZE, HEAD)
    return sheet.finish(paper_grain(PUPPET_SIZE, sheet.rng, 0.06))


def puppet_head() -> Floats:
    """Return the puppet's head with glasses on its sheet. RGBA (H, W, 4)."""
    sheet = Canvas(PUPPET_SIZE, "000000", seed=29)
    sheet.alpha[:] = 0
    rims = [_ring(450 + side * 68, 500, 58, 52) for side in (-1, 1)]
    for rim in rims:
        sheet.ink(rim, 7, "20262b", closed=True)
    sheet.ink([(508, 492), (450, 480), (392, 492)], 6, "20262b")
    for side in (-1, 1):
        sheet.ink([(450 + side * 126, 496), (450 + side * 172, 486)], 6, "20262b")
    mask = np.zeros((PUPPET_SIZE[1], PUPPET_SIZE[0]), np.uint8)
    for rim in rims:
        cv2.polylines(mask, [rim.astype(np.int32)], True, 255, 8, cv2.LINE_AA)
    cv2.polylines(mask, [np.array([(508, 492), (450, 480), (392, 492)])], False, 255, 7, cv2.LINE_AA)
    for side in (-1, 1):
        cv2.line(mask, (450 + side * 126, 496), (450 + side * 172, 486), 255, 7, cv2.LINE_AA)
    share = (mask.astype(np.float32) / 255)[..., None]
    head, glasses = _head(), sheet.finish(paper_grain(PUPPET_SIZE, sheet.rng, 0.03))
    colour = glasses[..., :3] if glasses[..., 3].max() > 0 else np.full_like(head[..., :3], 0.02)
    head[..., :3] = head[..., :3] * (1 - share) + np.minimum(colour, 0.05) * share * head[..., 3:]
    return head


def _comb(left: float, count: int, lengths: NDArray[np.float64]) -> Points:
    """Return the outline of a fringe: a band with strips that hang from it."""
    points = [(left, HAIR_TOP - 58)]
    right = left + count * (HAIR_WIDE + HAIR_GAP) - HAIR_GAP
    points.append((right, HAIR_TOP - 58))
    for strip in range(count - 1, -1, -1):
        x = left + strip * (HAIR_WIDE + HAIR_GAP)
        end = HAIR_TOP + lengths[strip]
        points += [(x + HAIR_WIDE, HAIR_TOP), (x + HAIR_WIDE - 4, end - 7), (x + 5, end), (x, HAIR_TOP)]
    return np.array(points)


HAIR = (
    _comb(142.0, 5, HAIR_LONG * np.array([0.72, 0.9, 1.0, 0.86, 0.95])),
    _comb(604.0, 5, HAIR_LONG * np.array([1.0, 0.83, 0.97, 0.9, 0.7])),
)
"""The two fringes as they hang still, on the puppet's sheet."""


def _hair() -> Floats:
    sheet = Canvas(PUPPET_SIZE, "6a3b22", seed=24)
    sheet.alpha[:] = 0
    for comb in HAIR:
        sheet.wash(comb, "7a4526")
        sheet.alpha = np.maximum(sheet.alpha, _inside(PUPPET_SIZE, comb))
        for x in np.arange(comb[:, 0].min() + 6, comb[:, 0].max(), 8.5):
            sheet.ink([(x, HAIR_TOP - 50), (x + 2, HAIR_TOP + HAIR_LONG)], 1.8, "351a0d", 0.5)
    return sheet.finish(paper_grain(PUPPET_SIZE, sheet.rng, 0.05))


def _bend(y: NDArray[Any], x: NDArray[Any], time: float) -> NDArray[Any]:
    """Return by how much the hair is bent to the right at places of the puppet's sheet."""
    down = np.clip((y - HAIR_TOP) / HAIR_LONG, 0, None)
    swing = np.sin(2 * np.pi * time / SWAY_FRAMES + x / 420) + 0.4 * np.sin(2 * np.pi * time / 27 + x / 300)
    return SWAY_PX * down**1.5 * swing


def _bent(hair: Floats, time: float) -> Floats:
    """Return the finely drawn hair as it is bent at a time."""
    top, end = int((HAIR_TOP - 60) * FINER), int((HAIR_TOP + HAIR_LONG + 8) * FINER)
    y, x = np.mgrid[top:end, 0 : hair.shape[1]].astype(np.float32)
    by = _bend((y + 0.5) / FINER, (x + 0.5) / FINER, time).astype(np.float32) * FINER
    out = np.zeros_like(hair)
    out[top:end] = cv2.remap(hair, x - by, y, cv2.INTER_LINEAR)
    return out


LANTERN = np.vstack([
    [(114, -20), (126, -20), (126, 600), (176, 640)], [(206, 700), (206, 800), (160, 862)],
    [(80, 862), (34, 800), (34, 700)], [(64, 640), (114, 600)],
]).astype(float)  # fmt: skip
"""The lantern with the strip of cardboard that it hangs from, on its sheet."""


def _lantern() -> Floats:
    sheet = Canvas(LANTERN_SIZE, "c8963e", seed=25)
    sheet.wash(LANTERN, "d8a247")
    sheet.wash([(64, 640), (176, 640), (206, 700), (34, 700)], "8c2f2a")
    sheet.wash([(34, 800), (206, 800), (160, 862), (80, 862)], "8c2f2a")
    for column in range(5):
        x = 52 + 34 * column
        sheet.ink([(x, 702), (x, 798)], 2.6, "6a3a1c", 0.8)
        for row in range(3):
            sheet.fill(_ring(x + 16, 722 + row * 28, 7, 9), "f7ecc0" if (row + column) % 2 else "7a4a22", 0.9)
    for y in range(20, 600, 34):
        sheet.ink([(115, y), (125, y + 12)], 2, strength=0.5)
    sheet.ink(LANTERN, 3, closed=True, wobble=0.5)
    sheet.alpha = _inside(LANTERN_SIZE, LANTERN)
    return sheet.finish(paper_grain(LANTERN_SIZE, sheet.rng, 0.05))


@lru_cache(maxsize=8)
def _painted(paint: Callable[[], Floats]) -> Picture:
    return finer(paint())


# -- where things are ---------------------------------------------------------------------------------------


def _camera(time: float) -> Camera:
    s = time / (FRAMES - 1)
    ease = s * s * (3 - 2 * s)
    shake = np.sin(time * 0.71 + 0.4) + 0.4 * np.sin(time * 1.93), np.sin(time * 0.83 + 2.0) + 0.4 * np.sin(time * 2.2)
    yaw, pitch = np.deg2rad(-0.7 + 1.3 * ease + 0.02 * shake[0]), np.deg2rad(0.25 * np.sin(3 * s) + 0.02 * shake[1])
    position = np.array([-0.14 + 0.26 * ease, 0.03 * np.sin(2.4 * s), 0.18 * ease])
    return Camera(FOCAL_PX, (WIDTH / 2, HEIGHT / 2), yaw, pitch, np.deg2rad(0.2 * np.sin(time * 0.1)), position)


def _sees(time: float, size: tuple[int, int], units: float, middle: Points, turn_rad: float, pivot: Points) -> Mapping:
    """Return where a sheet is seen that is turned about a pivot of its pixels, which is at a place of the stage."""
    scale = units / size[0]
    across = np.array([np.cos(turn_rad), np.sin(turn_rad), 0]) * scale
    down = np.array([-np.sin(turn_rad), np.cos(turn_rad), 0]) * scale
    return _camera(time).sees_plane(middle - across * pivot[0] - down * pivot[1], across, down)


def _of_sky(time: float) -> Mapping:
    half = np.array(SKY_SIZE) / 2
    return _sees(time, SKY_SIZE, SKY_UNITS, np.array([0, 0.1, SKY_AWAY]), 0.0, half)


def _of_puppet(time: float) -> Mapping:
    s = time / (FRAMES - 1)
    place = np.array([-0.74 + 0.62 * s, 0.26 + 0.02 * np.sin(time * 0.42), PUPPET_AWAY + 0.12 * np.sin(2.5 * s)])
    return _sees(time, PUPPET_SIZE, PUPPET_UNITS, place, 0.05 * np.sin(time * 0.13 + 0.5), np.array([450.0, 560.0]))


def _of_lantern(time: float) -> Mapping:
    swing = 0.17 * np.sin(2 * np.pi * (time + 4) / 50)
    return _sees(
        time, LANTERN_SIZE, LANTERN_UNITS, np.array([1.02, -1.25, LANTERN_AWAY]), swing, np.array([120.0, 0.0])
    )


SEEN: dict[str, Callable[[float], Mapping]] = {
    "sky": _of_sky,
    "head": _of_puppet,
    "hair": _of_puppet,
    "lantern": _of_lantern,
}


def _light(time: float) -> NDArray[np.float32]:
    s = time / (FRAMES - 1)
    flicker = 1 + 0.004 * np.sin(time * 2.3) + 0.003 * np.sin(time * 5.1 + 1)
    return (np.array([1 - 0.12 * s, 1 - 0.17 * s, 1 - 0.24 * s]) * flicker * 1.15).astype(np.float32)


def _window_of(points: Points) -> Window:
    return around(points, 12) & Window.of(WIDTH, HEIGHT)


def _exposed(time: float, drop: Callable[[], Floats]) -> tuple[Picture, Picture, dict[str, Picture]]:
    """Return the clean frame before a drop, the frame with the crosses, and the mattes, before grain."""
    full = Window.of(WIDTH, HEIGHT)
    clean, dirty = np.zeros((HEIGHT, WIDTH, 3), np.float32), np.zeros((HEIGHT, WIDTH, 3), np.float32)
    mattes = {name: np.zeros((HEIGHT, WIDTH), np.float32) for name in MATTES}
    for moment in moments(time, SHUTTER_SAMPLES):
        sky = np.ascontiguousarray(filmed(_painted(drop), _of_sky(moment), full)[..., :3])
        taped = sky.copy()
        for index in range(len(CROSSES)):
            window = _window_of(_of_sky(moment)(cross_outline(index)))
            tape = filmed(_painted(_tape), _of_sky(moment), window)
            mattes["crosses"][window.slices] += tape[..., 3]
            lay_over(taped[window.slices], tape)
        box = np.array([[0, 0], [PUPPET_SIZE[0], 0], PUPPET_SIZE, [0, PUPPET_SIZE[1]]], float)
        layers = (
            ("hair", _bent(_painted(_hair), moment), _of_puppet(moment), box),
            ("head", _painted(_head), _of_puppet(moment), box),
            ("lantern", _painted(_lantern), _of_lantern(moment), LANTERN),
        )
        for name, sheet, mapping, reach in layers:
            window = _window_of(mapping(reach))
            if window.is_empty:
                continue
            layer = filmed(sheet, mapping, window)
            mattes[name][window.slices] += layer[..., 3]
            lay_over(sky[window.slices], layer)
            lay_over(taped[window.slices], layer)
        clean += sky
        dirty += taped
    light = _light(time) / SHUTTER_SAMPLES
    soft = {name: through_lens(matte / SHUTTER_SAMPLES) for name, matte in mattes.items()}
    return through_lens(clean * light), through_lens(dirty * light), soft


def _passed(name: str, frame: int, points: Points) -> Points:
    """Return where points of a sheet are on a frame, in the middle of what they pass while the shutter is open."""
    times = moments(frame - FIRST_FRAME, SHUTTER_SAMPLES)
    bends = [_bend(points[:, 1], points[:, 0], time) if name == "hair" else np.zeros(len(points)) for time in times]
    places = [
        SEEN[name](time)(points + np.column_stack([bend, 0 * bend])) for time, bend in zip(times, bends, strict=True)
    ]
    return np.mean(places, axis=0)


@dataclass(frozen=True, slots=True)
class CrossesShot(FilmedShot):
    """Where shot 2 is on disk, and the truth about it. Adds mattes in ``front/`` and ``crosses/``."""

    filming = Filming("crosses", WIDTH, HEIGHT, FIRST_FRAME, FRAMES, SEED)

    def matte(self, name: str, frame: int) -> Picture:
        """Return the matte (H, W) of one of `MATTES`, whether or not something is in front of it."""
        kind = "front" if name in FRONT else name
        picture = read_picture(self.folder / kind / f"{kind}.{frame}.exr", SCENE_LINEAR)
        return picture[..., FRONT.index(name) if name in FRONT else 0]

    @staticmethod
    def outlines(name: str, frame: int) -> tuple[Points, ...]:
        """Return the true outlines of one of `MATTES` on a frame."""
        if name == "crosses":
            return tuple(_passed("sky", frame, cross_outline(index)) for index in range(len(CROSSES)))
        shapes = {"head": (HEAD,), "hair": HAIR, "lantern": (LANTERN,)}[name]
        return tuple(_passed(name, frame, _finely(shape)) for shape in shapes)

    def planes(self, frame: int, other: int) -> list[tuple[Mapping, Picture | None]]:
        """Return the true motion of the sky to another frame, and where what is in front hides it."""
        here, there = _of_sky(frame - FIRST_FRAME), _of_sky(other - FIRST_FRAME)
        front = np.maximum.reduce([self.matte(name, frame) for name in FRONT])
        return [(then(here.inverse(), there), 1 - front)]

    @staticmethod
    def uncovered_frame() -> int:
        """Return the first frame on which the middle of the brim's cross is behind hat and hair no more."""
        middles, covered = CROSSES[BRIM_CROSS : BRIM_CROSS + 1], []
        for frame in range(FIRST_FRAME, FIRST_FRAME + FRAMES):
            x, y = (float(one) for one in _passed("sky", frame, middles)[0])
            seen = [_passed("head", frame, shape).astype(np.float32) for shape in (HEAD, *HAIR)]
            hulls = [seen[0], *(cv2.convexHull(one)[:, 0] for one in seen[1:])]
            covered.append(any(cv2.pointPolygonTest(hull, (x, y), measureDist=False) >= 0 for hull in hulls))
        return FIRST_FRAME + max(index + 1 for index, one in enumerate(covered) if one)

    @staticmethod
    def on_sheet(name: str, points: Points, frame: int) -> Points:
        """Return where points of a sheet (sky, head, lantern) are on a frame."""
        return _passed(name, frame, points)


def _finely(shape: Points) -> Points:
    """Return a polygon with points close together, so that it can be bent."""
    closed = np.vstack([shape, shape[:1]])
    along = lengths_along(closed)
    at = np.unique(np.concatenate([along, np.arange(0, along[-1], 6.0)]))[:-1]
    return np.column_stack([np.interp(at, along, closed[:, k]) for k in range(2)])


def draw_crosses(folder: Path, frame: int, drop: Callable[[], Floats] = sky_sheet) -> int:
    """Draw a frame before a drop as large as the sky."""
    clean, dirty, mattes = _exposed(frame - FIRST_FRAME, drop)
    front = np.dstack([mattes[name] for name in FRONT])
    plate = with_grain(dirty, (SEED, frame))
    save_frame(folder, frame, "crosses", plate=plate, clean=clean, front=front, crosses=mattes["crosses"])
    return frame


def crosses_at(root: Path) -> CrossesShot:
    """Return shot 2 as it is, or is being, drawn into a folder."""
    return CrossesShot(root / f"crosses-{VERSION}")


make_crosses = maker(crosses_at, VERSION, draw_crosses, FOLDERS)
"""Draws it, see `filming.maker`."""
