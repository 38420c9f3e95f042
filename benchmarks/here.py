"""How fast fills from the frame itself are: `python -m benchmarks.here`, as seconds and as multiples of a yardstick."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    ByHand,
    Drawn,
    Fix,
    Footage,
    FrameRange,
    Matte,
    MattePart,
    Pin,
    Rim,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Span,
    Surface,
    VertexKind,
)
from gommage.core.engine import Engine, follow_line, found_dirt, snapped_line
from gommage.core.fill.patchwork import closed, finer, laid
from gommage.core.picture.writing import write_still

WIDTH, HEIGHT, FRAMES, MARKS = 1920, 1080, range(1001, 1013), 60


def seconds(call: Callable[[], object]) -> float:
    """Return how long a call takes."""
    begun = time.perf_counter()
    call()
    return time.perf_counter() - begun


def yardstick() -> float:
    """Return how long two sums of blurs of a fixed picture take here: what figures are held against."""
    picture = np.random.default_rng(0).random((1080, 1920)).astype(np.float32)
    return min(seconds(lambda: cv2.GaussianBlur(picture, (0, 0), 5.0)) for _ in range(5))


def filmed(folder: Path) -> Footage:
    """Return a shot of a shaded wall with marks and a wire, both moving."""
    rng = np.random.default_rng(1)
    x = np.tile(np.arange(WIDTH, dtype=np.float32), (HEIGHT, 1))
    for frame in FRAMES:
        shade = 1 - 0.3 * np.exp(-(((x - 400 - 60 * (frame - 1001)) / 300) ** 2))
        picture = (0.4 + 0.0001 * x)[..., None] * shade[..., None] * np.float32([1.0, 0.9, 0.7])
        for px, py in marks_on(frame):
            cv2.circle(picture, (round(px), round(py)), 18, (0.05, 0.5, 0.1), -1)
        cv2.polylines(picture, [np.round(wire_on(frame)).astype(np.int32)], False, (0.05, 0.05, 0.05), 3, cv2.LINE_AA)
        picture = picture + rng.normal(0, 0.008, picture.shape)
        write_still(folder / f"wall.{frame}.exr", np.maximum(picture, 0).astype(np.float16), bits=16)
    return Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=FRAMES[0], last=FRAMES[-1]), width=WIDTH,
                   height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip


def marks_on(frame: int) -> list[tuple[float, float]]:
    """Return the middles of the marks on a frame."""
    return [(100 + 190 * (n % 10) + 3 * (frame - 1001), 100 + 170 * (n // 10)) for n in range(MARKS)]


def wire_on(frame: int) -> np.ndarray:
    """Return a wire of a thousand pixels on a frame."""
    x = np.linspace(450, 1450, 60)
    return np.column_stack([x, 190 + 25 * np.sin((x - 450) / 1000 * np.pi) + 2 * (frame - 1001)])


def square(name: str, x: float, y: float) -> Shape:
    """Return a square of 40 px that goes with a mark."""
    corners = np.array([[-20, -20], [20, -20], [20, 20], [-20, 20]], float)
    keys = tuple(ShapeKey.of(frame, corners + (x + 3 * (frame - 1001), y)) for frame in (FRAMES[0], FRAMES[-1]))
    return Shape(id=name, keys=keys, kinds=(VertexKind.CORNER,) * 4)


def riding(shot: Shot) -> Shot:
    """Return a shot whose marks ride on a surface that moves as they do."""
    corners = shot.footage.bounds.corners
    pins = tuple(Pin(frame=frame, home=Array(corners), placed=Array(corners + (3 * (frame - FRAMES[0]), 0)))
                 for frame in FRAMES[1:])  # fmt: skip
    surface = Surface(id="wall", name="Wall", home_frame=FRAMES[0], how=ByHand(corners=Array(corners)), pins=pins)
    squares = [replace(square(f"m{n}", *place), keys=square(f"m{n}", *place).keys[:1])
               for n, place in enumerate(marks_on(FRAMES[0]))]  # fmt: skip
    cover = Matte.of(*squares, surface_id="wall", softness=Softness(outwards_px=2.0))
    return replace(shot, surfaces=(surface,), fixes=(replace(shot.fixes[0], surface_id="wall", cover=cover),))


def measured() -> dict[str, float]:
    """Return seconds by what was measured."""
    rows = {}
    with tempfile.TemporaryDirectory() as name:
        footage, engine = filmed(Path(name)), Engine(3 * 10**9)
        for frame in FRAMES:
            engine.plate(footage, frame)
        squares = [square(f"m{n}", *place) for n, place in enumerate(marks_on(1001))]
        rim = Fix(id="m", name="Marks", cover=Matte.of(*squares, softness=Softness(outwards_px=2.0)), fill=Rim())
        shot = Shot(id="s", name="Wall", footage=footage, fixes=(rim,))
        engine.all_patches(shot, 1001)
        rows["rim: 60 marks of 40 px, a frame (must 0.040)"] = float(
            np.median([seconds(lambda frame=frame: engine.all_patches(shot, frame)) for frame in FRAMES[1:]])  # type: ignore[misc]
        )
        steady = riding(shot)
        engine.all_patches(steady, 1001)
        rows["the same steadied along a surface"] = float(
            np.median([seconds(lambda frame=frame: engine.all_patches(steady, frame)) for frame in FRAMES[3:-3]])  # type: ignore[misc]
        )
        line = Shape(id="w", keys=(ShapeKey.of(1001, wire_on(1001)[[0, -1]]),), kinds=(VertexKind.SMOOTH,) * 2,
                     is_closed=False)  # fmt: skip
        wire = snapped_line(engine, shot, MattePart(id="w", source=Drawn(shape=line)), 1001)
        begun = time.perf_counter()
        steps = [step for step in follow_line(engine, shot, wire, 1001) if step.key is not None]
        rows["a line of 1000 px followed, a frame (must 0.067)"] = (time.perf_counter() - begun) / len(steps)
        keyed = Shape(id="w", keys=tuple(step.key for step in steps if step.key is not None),
                      kinds=(VertexKind.SMOOTH,) * len(steps[0].key.vertices), is_closed=False)  # type: ignore[union-attr]  # fmt: skip
        part = MattePart(id="w", source=Drawn(shape=keyed), grow_px=3.0)
        span = Fix(id="w", name="Wire", cover=Matte(parts=(part,), softness=Softness(outwards_px=1.5)), fill=Span())
        shot = Shot(id="s", name="Wall", footage=footage, fixes=(span,))
        engine.all_patches(shot, 1001)
        rows["span: a wire of 1000 px, a frame (must 0.020)"] = float(
            np.median([seconds(lambda frame=frame: engine.all_patches(shot, frame)) for frame in FRAMES[1:]])  # type: ignore[misc]
        )
        for frame in FRAMES:
            engine.pictures.plate(footage, frame, 1)
        engine.all_patches(shot, 1001, 1)
        rows["the same seen at half size, as while dragging (must 0.008)"] = float(
            np.median([seconds(lambda frame=frame: engine.all_patches(shot, frame, 1)) for frame in FRAMES[1:]])  # type: ignore[misc]
        )
        wall = Shot(id="s", name="Wall", footage=footage)
        found_dirt(engine, wall)  # compiled, and frames read
        again = Engine(3 * 10**9)
        rows["dirt of a frame of 1920x1080, its file read as well"] = seconds(lambda: found_dirt(again, wall)) / len(
            FRAMES
        )
        again = Engine(3 * 10**9)
        for frame in FRAMES:
            again.plate(footage, frame)
        rows["dirt of a frame of 1920x1080, files read before (plays at 0.042)"] = seconds(
            lambda: found_dirt(again, wall)
        ) / len(FRAMES)
    rng = np.random.default_rng(2)
    tile = cv2.GaussianBlur(rng.random((64, 96, 3)).astype(np.float32), (0, 0), 2)
    picture = np.tile(tile, (18, 16, 1))[:1152, :1536] + 0.01 * rng.normal(size=(1152, 1536, 3)).astype(np.float32)
    picture, hole = picture.astype(np.float32), np.zeros((1152, 1536), bool)
    hole[320:832, 512:1024] = True
    closed(picture[:200, :200], hole[250:450, 400:600], ~hole[250:450, 400:600])
    for look, words in ((3, "texture: first look at a hole of 512 px (must 1.5)"), (0, "texture: all of it (must 10)")):

        def whole(look: int = look) -> None:
            found = closed(picture, hole, ~hole, finest=look)
            laid(picture, hole, finer(found.offsets, found.level, hole, ~hole))

        rows[words] = seconds(whole)
    return rows


if __name__ == "__main__":
    stick = yardstick()
    print(f"yardstick: {1000 * stick:.1f} ms\n\n| what | seconds | yardsticks |\n|---|---|---|")
    for words, took in measured().items():
        print(f"| {words} | {took:.3f} | {took / stick:.1f} |")
