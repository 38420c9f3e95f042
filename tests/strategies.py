"""Hypothesis strategies for documents."""

from operator import attrgetter

import numpy as np
from hypothesis import strategies as st

from gommage.core.document import (
    Aim,
    Array,
    Brush,
    ByHand,
    Channel,
    CleanPlate,
    Combine,
    Drawn,
    Ease,
    Fix,
    Footage,
    FrameRange,
    Frames,
    FromFrame,
    FromPicture,
    GrainMatch,
    Key,
    Keys,
    LightMatch,
    Match,
    Matte,
    MattePart,
    MotionModel,
    Painting,
    Pin,
    PlaneFollow,
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
    VertexKind,
)

letters = st.characters(exclude_categories=("Cc", "Cs"))
names = st.text(letters, min_size=1, max_size=12)
number = st.floats(-1e4, 1e4, allow_nan=False)
share = st.floats(0, 1)

id_of = attrgetter("id")
TRIANGLE = [(0.0, 0.0), (9.0, 0.0), (9.0, 9.0)]
"""Every shape has some area."""
tools = st.sampled_from((Tool.CLONE, Tool.HEAL, Tool.RESTORE))
lives = st.sampled_from(((), (Frames(first=1002),), (Frames(last=1004), Frames(first=1007, last=1009))))
keyed = st.floats(0, 2) | st.just(Keys(keys=(Key(frame=1001, value=0.5), Key(frame=1009, value=1.5, ease=Ease.HELD))))


@st.composite
def shapes(draw, frame=1001):
    count = draw(st.integers(0, 3))
    frames = sorted(draw(st.sets(st.integers(1001, 1020), min_size=1, max_size=3)))
    keys = tuple(
        ShapeKey.of(f, TRIANGLE + draw(st.lists(st.tuples(number, number), min_size=count, max_size=count)))
        for f in frames
    )
    kinds = draw(
        st.lists(st.sampled_from((VertexKind.CORNER, VertexKind.SMOOTH)), min_size=count + 3, max_size=count + 3)
    )
    return Shape(id=draw(names), keys=keys, kinds=tuple(kinds), ease=draw(st.sampled_from(Ease)))


@st.composite
def mattes(draw, least=0):
    parts = tuple(
        MattePart(
            id=shape.id, source=Drawn(shape=shape, surface_id=draw(st.sampled_from(("", "surface")))),
            combine=draw(st.sampled_from(Combine)), is_inverted=draw(st.booleans()), grow_px=draw(keyed),
            frames=draw(lives), is_on=draw(st.booleans()),
        )
        for shape in draw(st.lists(shapes(), min_size=least, max_size=2, unique_by=id_of))
    )  # fmt: skip
    return Matte(parts=parts, grow_px=draw(keyed), softness=Softness(outwards_px=draw(keyed)))


@st.composite
def strokes(draw):
    points = draw(st.lists(st.tuples(number, number, share), min_size=1, max_size=8))
    brush = Brush(tool=draw(tools), size_px=draw(st.floats(0.5, 400)), softness=draw(share), opacity=draw(share))
    return Stroke(id=draw(names), points=Array(points), brush=brush, source=Source(dx=draw(number), dy=draw(number)))


@st.composite
def tracks(draw):
    count = draw(st.integers(1, 4))
    matrices = np.eye(3)[None] + np.array(draw(st.lists(number, min_size=count, max_size=count)))[:, None, None] * 1e-6
    return Track(
        first_frame=draw(st.integers(1001, 1010)), home_to_frame=Array(matrices),
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
    width, height = draw(st.floats(5, 900)), draw(st.floats(5, 900))
    corners = Array([[0, 0], [width, 1], [width, height], [1, height]])
    return draw(
        st.builds(
            PlaneFollow, areas=mattes(1), keep_outs=mattes(), motion=st.sampled_from(MotionModel),
            channel=st.sampled_from(Channel), leaves_out_front=st.booleans(),
        )
        | st.builds(PointsFollow, spots=st.lists(spots(), min_size=1, max_size=3, unique_by=id_of).map(tuple))
        | st.just(Still(corners=corners))
        | st.just(ByHand(corners=corners))
    )  # fmt: skip


@st.composite
def projects(draw):
    footage = Footage(path="/pictures/a.####.exr", frames=FrameRange(first=1001, last=1020), width=64, height=48)
    surface = Surface(
        id="surface", name=draw(names), home_frame=1001, how=draw(hows()), track=draw(st.none() | tracks()),
        pins=draw(st.sampled_from(((), (Pin(frame=1004, home=Array([[1, 2]]), placed=Array([[3, 4]])),)))),
    )  # fmt: skip
    plate = CleanPlate(
        id="plate", name=draw(names), surface_id="surface", home_frame=1001,
        base=draw(st.sampled_from((FromFrame(), FromPicture(path="/pictures/clean.exr")))),
        painting=Painting(strokes=tuple(draw(st.lists(strokes(), max_size=3, unique_by=id_of)))),
    )  # fmt: skip
    fix = Fix(
        id="fix", name=draw(names), surface_id="surface",
        cover=draw(mattes()), hold_outs=draw(mattes()),
        frames=draw(lives), opacity=draw(share), is_on=draw(st.booleans()),
        match=Match(light=LightMatch(exposure_stops=draw(keyed)), grain=GrainMatch(amount=draw(keyed))),
    )  # fmt: skip
    shot = Shot(id="shot", name=draw(names), footage=footage, surfaces=(surface,), clean_plates=(plate,), fixes=(fix,))
    return Project.of(shot)
