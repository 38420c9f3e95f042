"""Hypothesis strategies for documents."""

import numpy as np
from hypothesis import strategies as st

from gommage.core.document import (
    Array,
    CleanPlate,
    Cover,
    Fix,
    Footage,
    Frames,
    Match,
    MotionModel,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Source,
    Stroke,
    Surface,
    Tool,
    Track,
)

names = st.text(min_size=1, max_size=12)
number = st.floats(-1e4, 1e4, allow_nan=False)
share = st.floats(0, 1)


@st.composite
def shapes(draw, frame=1001):
    count = draw(st.integers(3, 6))
    frames = sorted(draw(st.sets(st.integers(1001, 1020), min_size=1, max_size=3)))
    keys = tuple(
        ShapeKey(frame=f, points=Array(draw(st.lists(st.tuples(number, number), min_size=count, max_size=count))))
        for f in frames
    )
    return Shape(id=draw(names), keys=keys, is_smooth=draw(st.booleans()))


@st.composite
def strokes(draw):
    points = draw(st.lists(st.tuples(number, number, share), min_size=1, max_size=5))
    return Stroke(
        id=draw(names), tool=draw(st.sampled_from(Tool)), points=Array(points), size_px=draw(st.floats(0.5, 400)),
        softness=draw(share), opacity=draw(share), source=Source(dx=draw(number), dy=draw(number)),
    )  # fmt: skip


@st.composite
def tracks(draw):
    count = draw(st.integers(1, 4))
    matrices = np.eye(3)[None] + np.array(draw(st.lists(number, min_size=count, max_size=count)))[:, None, None] * 1e-6
    return Track(
        first_frame=draw(st.integers(990, 1010)), home_to_frame=Array(matrices), slip_px=Array([0.1] * count),
        certainty=Array([0.9] * count), after=draw(names),
    )  # fmt: skip


@st.composite
def projects(draw):
    footage = Footage(path="/pictures/a.####.exr", frames=Frames(first=1001, last=1020), width=64, height=48)
    surface = Surface(
        id="surface", name=draw(names), home_frame=1001, area=draw(shapes()), motion=draw(st.sampled_from(MotionModel)),
        track=draw(st.none() | tracks()),
    )  # fmt: skip
    plate = CleanPlate(
        id="plate", name=draw(names), surface_id="surface", home_frame=1001,
        strokes=tuple(draw(st.lists(strokes(), max_size=3))),
    )  # fmt: skip
    fix = Fix(
        id="fix", name=draw(names), surface_id="surface",
        cover=Cover(shapes=tuple(draw(st.lists(shapes(), max_size=2)))),
        match=Match(grain=draw(share)), is_on=draw(st.booleans()),
    )  # fmt: skip
    shot = Shot(id="shot", name=draw(names), footage=footage, surfaces=(surface,), clean_plates=(plate,), fixes=(fix,))
    return Project.of(shot)
