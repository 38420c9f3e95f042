"""What is killed, damaged and used for long: a small shot on disk with every kind of record that can be evaluated."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from msgspec.structs import replace

from benchmarks.shots import texture
from gommage.core.document import (
    SCENE_LINEAR,
    Array,
    Brush,
    ByHand,
    CleanPlate,
    Combine,
    Drawn,
    Ease,
    Fix,
    Footage,
    FrameRange,
    Frames,
    Key,
    Keys,
    LightMatch,
    Match,
    Matte,
    MattePart,
    Painting,
    Pin,
    PlaneFollow,
    Plates,
    PointsFollow,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Source,
    Spot,
    SpotPath,
    Still,
    Stroke,
    Surface,
    Tool,
    Track,
)
from gommage.core.picture.writing import write_still

__all__ = ["COUNT", "FIRST", "HEIGHT", "WIDTH", "stroke", "subject"]

FIRST, COUNT, WIDTH, HEIGHT = 1001, 8, 192, 144


def subject(folder: Path) -> Project:
    """Write the shot's pictures and return the project."""
    folder.mkdir(parents=True, exist_ok=True)
    base = texture(WIDTH, HEIGHT)
    for step in range(COUNT):
        moved = cv2.warpAffine(base, np.array([[1, 0, step], [0, 1, 0.5 * step]], np.float32), (WIDTH, HEIGHT),
                               borderMode=cv2.BORDER_REFLECT)  # fmt: skip
        write_still(folder / f"wall.{FIRST + step}.exr", moved.astype(np.float16), bits=16)
    frames = FrameRange(first=FIRST, last=FIRST + COUNT - 1)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=frames, width=WIDTH, height=HEIGHT,
                      colour_space=SCENE_LINEAR)  # fmt: skip
    surfaces = _surfaces()
    painting = Painting(strokes=tuple(stroke(index) for index in range(6)))
    plates = (
        CleanPlate(id="plate", name="Clean", surface_id="wall", home_frame=FIRST, painting=painting),
        CleanPlate(id="second", name="Later", surface_id="wall", home_frame=FIRST + 5),
    )
    shot = Shot(id="shot", name="Wall", footage=footage, surfaces=surfaces, clean_plates=plates, fixes=_fixes())
    return Project.of(shot, replace(shot, id="other", name="Wall, again", fixes=()))


def stroke(index: int) -> Stroke:
    """Return one of many strokes."""
    points = np.column_stack([np.linspace(60, 110, 20), np.full(20, 50.0 + 4 * (index % 8)), np.ones(20)])
    tool = (Tool.CLONE, Tool.HEAL, Tool.RESTORE)[index % 3]
    brush = Brush(tool=tool, size_px=12.0, softness=0.5)
    return Stroke(id=f"s{index}", points=Array(points), brush=brush, source=Source(dx=-40.0))


def _surfaces() -> tuple[Surface, ...]:
    matrices = np.repeat(np.eye(3)[None], COUNT, axis=0)
    matrices[:, 0, 2], matrices[:, 1, 2] = np.arange(COUNT), 0.5 * np.arange(COUNT)
    track = Track(first_frame=FIRST, home_to_frame=Array(matrices), corner_slip_px=Array(np.full((COUNT, 4), 0.05)),
                  certainty=Array(np.ones(COUNT)), reasons=("",) * COUNT)  # fmt: skip
    area = Shape.of("area", FIRST, [[10, 10], [180, 10], [180, 130], [10, 130]])
    pin = Pin(frame=FIRST + 3, home=Array([[50, 50]]), placed=Array([[53.2, 51.6]]))
    spot = Spot(id="spot", x=60.0, y=60.0,
                path=SpotPath(first_frame=FIRST, positions=Array([[60.0, 60.0]]), certainty=Array([1.0])))  # fmt: skip
    corners = Array([[20, 20], [90, 20], [90, 90], [20, 90]])
    return (
        Surface(id="wall", name="Wall", home_frame=FIRST, how=PlaneFollow(areas=Matte.of(area, surface_id="wall")),
                track=track, pins=(pin,)),
        Surface(id="spots", name="Spots", home_frame=FIRST, how=PointsFollow(spots=(spot,)), rides_on="wall"),
        Surface(id="still", name="Still", home_frame=FIRST, how=Still(corners=corners)),
        Surface(id="hand", name="By hand", home_frame=FIRST, how=ByHand(corners=corners), rides_on="wall",
                pins=(replace(pin, frame=FIRST + 5),)),
    )  # fmt: skip


def _fixes() -> tuple[Fix, ...]:
    corners = np.array([[60.0, 40.0], [110.0, 40.0], [110.0, 90.0], [60.0, 90.0]])
    keys = tuple(ShapeKey.of(FIRST + 3 * index, corners + 2 * index) for index in range(3))
    kinds = Shape.of("x", FIRST, corners).kinds
    cover = Shape(id="cover", keys=keys, kinds=kinds, ease=Ease.SMOOTH)
    parts = (
        MattePart(id="cover", source=Drawn(shape=cover, surface_id="wall"), softness=Softness(outwards_px=3.0)),
        MattePart(id="hole", source=Drawn(shape=Shape.of("hole", FIRST, corners * 0.3 + 60), surface_id="still"),
                  combine=Combine.SUBTRACT, frames=(Frames(first=FIRST + 2),)),
    )  # fmt: skip
    stops = Keys(keys=(Key(frame=FIRST, value=0.0), Key(frame=FIRST + 6, value=0.3, ease=Ease.HELD)))
    first = Fix(id="fix", name="Nail", surface_id="wall", cover=Matte(parts=parts, grow_px=1.0,
                softness=Softness(outwards_px=4.0)), fill=Plates(plate_ids=("plate", "second")),
                match=Match(light=LightMatch(exposure_stops=stops)))  # fmt: skip
    second = replace(first, id="behind", name="Crack", frames=(Frames(last=FIRST + 4),), opacity=0.5,
                     hold_outs=Matte.of(Shape.of("hand", FIRST, corners + 20), surface_id="wall"))  # fmt: skip
    return first, second
