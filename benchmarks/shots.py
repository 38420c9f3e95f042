"""Made-up shots of any size for measuring speed: texture under a known motion, on disk or in memory."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np

from gommage.core.document import (
    SCENE_LINEAR,
    Array,
    Brush,
    CleanPlate,
    Fix,
    Footage,
    FrameRange,
    Matte,
    Painting,
    PlaneFollow,
    Plates,
    Project,
    Shape,
    Shot,
    Softness,
    Source,
    Stroke,
    Surface,
    Track,
)
from gommage.core.picture.writing import write_still

FIRST = 1001


def texture(width: int, height: int, seed: int = 0) -> np.ndarray:
    """Return smooth random colour (H, W, 3) float32 with detail of all sizes."""
    rng = np.random.default_rng(seed)
    total = np.zeros((height, width, 3), np.float32)
    for octave in range(6):
        size = max(width >> octave, 4), max(height >> octave, 4)
        noise = rng.standard_normal((size[1], size[0], 3)).astype(np.float32)
        total += cv2.resize(cv2.GaussianBlur(noise, (0, 0), 1.2), (width, height), interpolation=cv2.INTER_CUBIC)
    return (0.4 + 0.1 * total / total.std()).clip(0.02, 2).astype(np.float32)


def motion(step: int, width: int, height: int) -> np.ndarray:
    """Return home_to_frame of a camera that pans, turns, nears and tilts a little with every frame."""
    angle, scale = np.deg2rad(0.12 * step), 1 + 0.002 * step
    cos, sin = np.cos(angle) * scale, np.sin(angle) * scale
    shift = 3.1 * step + 2 * np.sin(step * 1.7), 1.3 * step + 1.5 * np.sin(step * 2.3)
    inner = np.array([[cos, -sin, shift[0]], [sin, cos, shift[1]], [4e-7 * step, 2e-7 * step, 1.0]])
    middle = np.array([[1, 0, width / 2], [0, 1, height / 2], [0, 0, 1.0]])
    return middle @ inner @ np.linalg.inv(middle)


def filmed(picture: np.ndarray, home_to_frame: np.ndarray, grain: float, seed: int) -> np.ndarray:
    """Return the picture under a motion, with grain."""
    half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1.0]])
    matrix = np.linalg.inv(half) @ home_to_frame @ half
    size = picture.shape[1], picture.shape[0]
    moved = cv2.warpPerspective(picture, matrix, size, flags=cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REFLECT)
    noise = np.random.default_rng(seed).standard_normal(moved.shape, dtype=np.float32)
    return moved + np.float32(grain) * noise


def rectangle(left: float, top: float, width: float, height: float, name: str = "shape") -> Shape:
    """Return a shape of four corners, keyed on the first frame."""
    corners = [[left, top], [left + width, top], [left + width, top + height], [left, top + height]]
    return Shape.of(name, FIRST, corners)


def strokes(count: int, left: float, top: float, side: float) -> tuple[Stroke, ...]:
    """Return clone strokes, one after the other, over a square."""
    rng = np.random.default_rng(1)
    made = []
    for index in range(count):
        ends = rng.uniform((left, top), (left + side, top + side), (2, 2))
        points = np.column_stack([np.linspace(*ends, 12), np.ones(12)])
        source = Source(dx=float(rng.integers(-90, -60)), dy=float(rng.integers(-20, 20)))
        made.append(Stroke(id=f"s{index}", points=Array(points), brush=Brush(size_px=30), source=source))
    return tuple(made)


def shot_on_disk(
    folder: Path, width: int, height: int, count: int, fixes: int, strokes_a_plate: int, files: int | None = None
) -> Project:
    """Return a shot with half-float pictures and fixes of 400 x 300 px in a row, each with a plate of its own.

    Of a long one only so many `files` may be drawn; the others are the same once more, for what does not look at them.
    """
    base = texture(width, height)
    for step in range(count):
        path = folder / f"shot.{FIRST + step}.exr"
        if files is not None and step >= files:
            path.hardlink_to(folder / f"shot.{FIRST + step % files}.exr")
            continue
        pixels = filmed(base, motion(step, width, height), 0.01, step).astype(np.float16)
        write_still(path, pixels, bits=16, compression="zip:1")
    footage = Footage(path=str(folder / "shot.####.exr"), frames=FrameRange(first=FIRST, last=FIRST + count - 1),
                      width=width, height=height, colour_space=SCENE_LINEAR)  # fmt: skip
    track = Track(
        first_frame=FIRST,
        home_to_frame=Array(np.stack([motion(step, width, height) for step in range(count)])),
        corner_slip_px=Array(np.zeros((count, 4))),
        certainty=Array(np.ones(count)),
        reasons=("",) * count,
    )
    how = PlaneFollow(areas=Matte.of(rectangle(100, 100, width - 200, height - 200), surface_id="wall"))
    surface = Surface(id="wall", name="Wall", home_frame=FIRST, how=how, track=track)
    plates, made = [], []
    for index in range(fixes):
        left, top = 120 + index * (width - 240 - 400) / max(fixes - 1, 1), height / 2 - 150
        painting = Painting(strokes=strokes(strokes_a_plate, left + 100, top + 50, 200))
        plates.append(CleanPlate(id=f"p{index}", name=f"Plate {index}", surface_id="wall", home_frame=FIRST,
                                 painting=painting))  # fmt: skip
        made.append(Fix(id=f"f{index}", name=f"Fix {index}", surface_id="wall",
                        cover=Matte.of(rectangle(left, top, 400, 300, f"c{index}"), surface_id="wall",
                                       softness=Softness(outwards_px=6.0)),
                        fill=Plates(plate_ids=(f"p{index}",))))  # fmt: skip
    return Project.of(Shot(id="shot", name="Bench", footage=footage, surfaces=(surface,), clean_plates=tuple(plates),
                           fixes=tuple(made)))  # fmt: skip
