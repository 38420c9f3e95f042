"""Shot 2 through the real window: what passes in front is held out, with few actions and few keys; judged by truth."""

import cv2
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QToolButton

from gommage.app.look.controls import DragNumber
from gommage.core.cover import matte_at, matte_pixels
from gommage.core.document import Matte, Project, placement
from gommage.core.engine import Step, mappings_of
from gommage.core.geometry import Window
from tests.app.counting import Hand, densely
from tests.app.driving import ALT, CTRL, SHIFT, find
from tests.app.painted_crosses import SPAN, cure, shot_of
from tests.conftest import settle, wait_until

pytestmark = pytest.mark.whole
HOME, SCRIBBLED = 1051, 1048
KEYED = (*range(HOME + 10, SPAN.last + 1, 10), *range(HOME - 10, SPAN.first - 1, -10))
MOST_ACTIONS = 60
IOU, HAIR_IOU, EDGE_PX = 0.97, 0.95, 1.0  # the product's promises for this shot
FOLLOW_TOLERANCE_PX = 0.25  # the lantern, at 20 px a frame; the head is followed to 0.02


def follow(hand, outline):
    """Draw round what moves as one, and follow it both ways."""
    window = hand.window
    hand.key("another surface", (Qt.Key.Key_A, SHIFT))
    if window.desk.draws_by != "freehand":
        hand.button("choose how to draw", find(window.tray, QToolButton, "Freehand"))
    hand.drag("draw round what is followed", outline)
    hand.key("follow both ways", (Qt.Key.Key_G, CTRL))
    wait_until(lambda: not window.work.is_busy)
    settle(window)


def shrunk(outline, share):
    middle = (outline.min(axis=0) + outline.max(axis=0)) / 2
    return middle + (outline - middle) * share


def cover_a_cross(hand, crosses):
    """Follow the sky, and cover the cross that comes out from behind the brim."""
    hand.frame(HOME)
    follow(hand, densely(np.array([[1150, 20], [1400, 20], [1400, 1000], [1150, 1000.0]]), 8))
    hand.key("step Cover", Qt.Key.Key_2)
    hand.drag("cover a cross", densely(shrunk(crosses.outlines("crosses", HOME)[4], 1.3), 3))


def begin_hold_out(hand):
    hand.button("draw a hold-out", find(hand.window.panel.pages[Step.COVER], QToolButton, "Add: held out"))


def draw_round(hand, outline, zoom, *, step):
    hand.zoom((outline.min(axis=0) + outline.max(axis=0)) / 2, zoom)
    hand.drag("draw round what passes in front", densely(outline, step))


def test_head_hair_and_lantern_are_held_out(window, crosses):
    window.session.begin(Project.of(shot_of(crosses)))
    settle(window)
    cover_a_cross(Hand(window, "cover"), crosses)
    hand = Hand(window, "hold-outs")
    (head,), hair, (lantern,) = (crosses.outlines(name, HOME) for name in ("head", "hair", "lantern"))
    body = lantern[lantern[:, 1] > lantern[:, 1].max() - 230]
    follow(hand, densely(shrunk(head, 0.94), 5))
    follow(hand, densely(shrunk(body, 0.9), 4))
    assert followed_to(window.shot, crosses) < FOLLOW_TOLERANCE_PX

    hand.key("step Cover", Qt.Key.Key_2)
    carrier = find(window.tray, QComboBox, "The next shape rides on")
    begin_hold_out(hand)
    hand.choose("choose what carries it", carrier, 1)
    draw_round(hand, head, 1.0, step=1.5)
    for comb in hair:
        begin_hold_out(hand)
        draw_round(hand, comb, 2.0, step=0.7)
    lantern = lantern[lantern[:, 1] > -30]
    begin_hold_out(hand)
    hand.choose("choose what carries it", carrier, 2)
    draw_round(hand, lantern, 0.55, step=1.0)
    page = window.panel.pages[Step.COVER]
    for name, value in (("Shutter", 180), ("Soft outside", 1.5), ("Soft inside", 1.5)):
        hand.type_in("type the softness of all hold-outs", find(page, DragNumber, name), value)
    keys_of_hair(hand)
    assert hand.count <= MOST_ACTIONS
    figures = judged(window, crosses, range(SPAN.first, SPAN.last + 1, 5))
    for name, one in figures.items():
        ious, edges = zip(*one, strict=True)
        # of strips 20 px wide that sway between keys every half pixel costs 3 %: the hair alone is judged by its mean
        assert (np.mean(ious) > HAIR_IOU) if name == "hair" else (min(ious) > IOU), name
        assert np.mean(edges) < EDGE_PX, name
    hand.note(
        f"Hold out a puppet's head, its hair of paper strips and a swinging lantern over {len(SPAN)} frames",
        AGAINST_TRUTH,
        [in_words(name, *zip(*one, strict=True)) for name, one in figures.items()],
    )
    cure(window, crosses)


AGAINST_TRUTH = ("against truth", "IoU, mean of frames", "edge off by, mean")


def in_words(name, ious, edges):
    return name, f"{np.mean(ious):.3f}", f"{np.mean(edges):.2f} px"


SCRIBBLED_IOU = 0.95


def test_the_lantern_is_held_out_by_scribbles(window, crosses):
    """One frame is scribbled on; its matte is carried over all others."""
    window.session.begin(Project.of(shot_of(crosses)))
    settle(window)
    hand = Hand(window, "scribbles")
    hand.frame(SCRIBBLED)

    def on_frame(*points):
        return crosses.on_sheet("lantern", np.array(points, float), SCRIBBLED)

    hand.key("take the scribbles", (Qt.Key.Key_E, SHIFT))
    down = on_frame((120, 40), (120, 590), (120, 650), (70, 720), (120, 740), (172, 770), (80, 800), (120, 842))
    hand.drag("scribble inside", densely(down, 6)[: len(densely(down, 6)) * 2 // 3])
    for across in (on_frame((52, 722), (190, 722)), on_frame((52, 780), (190, 780))):
        hand.drag("scribble inside", np.linspace(*across, 12))
    around = on_frame(
        (60, 30), (60, 570), (-10, 690), (0, 850), (120, 910), (250, 850), (250, 690), (180, 570), (180, 30)
    )
    hand.drag("scribble outside", around, ALT)
    assert window.panel.advice.words.startswith("The scribbles make a matte")
    hand.key("carry them over all frames", Qt.Key.Key_Return)
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    (part,) = window.desk.fix(window.session.project).cover.parts
    assert len({mark.frame for mark in part.source.marks}) == 1
    assert len(window.session.drift(part.id)) == len(SPAN)
    plain, found = Matte(parts=(part,)), []
    for frame in range(SPAN.first, SPAN.last + 1, 5):
        mine = window.session.engine.matte(window.shot, plain, frame)
        found.append(
            (overlap(mine, crosses.matte("lantern", frame)), edge_error(mine, crosses.matte("lantern", frame)))
        )
    ious, edges = zip(*found, strict=True)
    assert min(ious) > SCRIBBLED_IOU
    sentence = f"Hold out a swinging lantern by scribbles on one of {len(SPAN)} frames"
    hand.note(sentence, AGAINST_TRUTH, [in_words("lantern", ious, edges)])


def keys_of_hair(hand):
    """Choose both fringes and key them every tenth frame: a step in time, the proposal, taken."""
    window = hand.window
    rows = window.panel.pages[Step.COVER].lists["hold_outs"]
    for number, modifiers in ((1, Qt.KeyboardModifier.NoModifier), (2, CTRL)):
        at = rows.visualRect(rows.model().index(number)).center()
        QTest.mouseClick(rows.viewport(), Qt.MouseButton.LeftButton, modifiers, at)
        hand.note_action("choose both fringes")
    for step, first in ((1, HOME), (-1, HOME)):
        if window.desk.frame != first:
            hand.frame(first)
        for _ in range(len([one for one in KEYED if (one - HOME) * step > 0])):
            hand.key("ten frames on or back", (Qt.Key.Key_F if step > 0 else Qt.Key.Key_D, SHIFT))
            hand.key("propose a key", (Qt.Key.Key_K, CTRL))
            assert window.desk.proposal == window.desk.frame
            hand.key("take it", Qt.Key.Key_Return)
    combs = [part.source.shape for part in window.desk.fix(window.session.project).hold_outs.parts[1:3]]
    assert [[key.frame for key in comb.keys] for comb in combs] == [sorted((HOME, *KEYED))] * 2


def followed_to(shot, crosses):
    """Return by how many pixels the surfaces are off at most."""
    worst = 0.0
    for surface, name in zip(shot.surfaces[1:], ("head", "lantern"), strict=True):
        points = crosses.outlines(name, HOME)[0][::9]
        placed = placement(shot, surface)
        for frame in range(SPAN.first, SPAN.last + 1, 3):
            off = placed.mapping(frame)(points) - crosses.outlines(name, frame)[0][::9]
            worst = max(worst, np.hypot(*off[points[:, 1] > 300].T).max())
    return worst


# -- judging ------------------------------------------------------------------------------------------------


def judged(window, crosses, frames):
    """Return for each thing in front, and for all, its IoU and its mean edge error on frames, against truth."""
    shot, bounds = window.shot, Window.of(crosses.footage.width, crosses.footage.height)
    matte = shot.fixes[0].hold_outs
    out = {"head": [], "hair": [], "lantern": [], "all": []}
    for frame in frames:
        found = matte_at(matte, frame, mappings_of(shot)).parts
        parts = [matte_pixels(type(matte_at(matte, frame, mappings_of(shot)))(parts=(one,)), bounds) for one in found]
        mine = {"head": parts[0], "hair": np.maximum(*parts[1:3]) * (1 - parts[0]), "lantern": parts[3]}
        true = {name: crosses.matte(name, frame) for name in ("head", "hair", "lantern")}
        true["hair"] = true["hair"] * (1 - true["head"])
        mine["all"] = np.maximum.reduce(parts)
        true["all"] = np.maximum(np.maximum(true["head"], true["hair"]), true["lantern"])
        for name, one in true.items():
            out[name].append((overlap(mine[name], one), edge_error(mine[name], one)))
    return out


def overlap(one, other):
    return float(np.minimum(one, other).sum() / np.maximum(one, other).sum())


def edge_error(mine, true):
    """Return how far the half-full line of a matte is from that of the truth on average, in pixels.

    Where a matte leaves the picture its edge is none.
    """
    finer = [cv2.resize(one, None, fx=2, fy=2, interpolation=cv2.INTER_LINEAR) > 0.5 for one in (mine, true)]
    edges = []
    for one in finer:
        inner = cv2.erode(one.astype(np.uint8), np.ones((3, 3), np.uint8), borderValue=1)
        edge = one & (inner == 0)
        edge[:4] = edge[-4:] = False
        edges.append(edge)
    far = cv2.distanceTransform((~edges[0]).astype(np.uint8), cv2.DIST_L2, 5)
    return float(far[edges[1]].mean() / 2)
