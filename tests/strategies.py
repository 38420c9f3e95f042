"""Hypothesis strategies for documents."""

import numpy as np
from hypothesis import strategies as st

from gommage.core.document import (
    Aim,
    Area,
    Array,
    ByHand,
    Channel,
    CleanPlate,
    Cover,
    Fix,
    Footage,
    Frames,
    Match,
    MotionModel,
    Pin,
    PlaneFollow,
    PointsFollow,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Source,
    Spot,
    SpotPath,
    Still,
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
        first_frame=draw(st.integers(990, 1010)), home_to_frame=Array(matrices),
        corner_slip_px=Array([[0.1] * 4] * count),
        certainty=Array([0.9] * count), reasons=tuple(draw(st.lists(names, min_size=count, max_size=count))),
        after=draw(names),
    )  # fmt: skip


@st.composite
def spots(draw):
    path = SpotPath(first_frame=1001, positions=Array([[draw(number), draw(number)]]), certainty=Array([draw(share)]))
    aim = Aim(frame=1003, x=draw(number), y=draw(number), dx=draw(number))
    return Spot(id=draw(names), x=draw(number), y=draw(number), aims=draw(st.sampled_from(((), (aim,)))),
                path=draw(st.sampled_from((None, path))))  # fmt: skip


@st.composite
def hows(draw):
    areas = st.lists(st.builds(Area, shape=shapes(), stays_put=st.booleans()), min_size=1, max_size=2).map(tuple)
    corners = Array([[0, 0], [draw(number), 1], [2, 2], [1, draw(number)]])
    return draw(
        st.builds(
            PlaneFollow, areas=areas, keep_outs=areas, motion=st.sampled_from(MotionModel),
            channel=st.sampled_from(Channel), leaves_out_front=st.booleans(),
        )
        | st.builds(PointsFollow, spots=st.lists(spots(), min_size=1, max_size=3).map(tuple))
        | st.just(Still(corners=corners))
        | st.just(ByHand(corners=corners))
    )  # fmt: skip


@st.composite
def projects(draw):
    footage = Footage(path="/pictures/a.####.exr", frames=Frames(first=1001, last=1020), width=64, height=48)
    surface = Surface(
        id="surface", name=draw(names), home_frame=1001, how=draw(hows()), track=draw(st.none() | tracks()),
        pins=draw(st.sampled_from(((), (Pin(frame=1004, home=Array([[1, 2]]), placed=Array([[3, 4]])),)))),
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
