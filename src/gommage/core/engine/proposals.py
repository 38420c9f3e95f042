"""What a cover should be filled from: proposed by what can be seen, best first, with the reason in words."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from msgspec.structs import replace

from gommage.core.cover import matte_on, reach_of
from gommage.core.document import (
    Borrow,
    Donors,
    Drawn,
    Fix,
    GrainMatch,
    Rim,
    Shot,
    Span,
    Still,
    Texture,
    edits,
    is_within,
    mappings_of,
)
from gommage.core.document import Project as ProjectRecord
from gommage.core.document.records import Fill
from gommage.core.engine.elsewhere import share_level
from gommage.core.engine.evaluate import Engine
from gommage.core.fill import surfaces_behind
from gommage.core.geometry import Window
from gommage.core.picture import Picture, encoded, scale_of

__all__ = ["Proposal", "first_look", "proposed_fills"]

Check = Callable[[], None]
SEEN_ENOUGH, SEEN_MOSTLY, SEEN_OF_LINES, SEEN_FRAMES = 0.985, 0.8, 0.9, 5
"""So much of a cover, on the worst of so many frames, is enough; of lines less is, as the rest of them is closed."""
SEEN_SCALE = 0.25
"""It is looked for at this scale, of thin covers at a larger one."""
RING_PX, GAP_PX, BLUR_PX = 28, 3, 6.0
PLAIN = 1.6
"""Around what is plain, what is left beside slow changes is so many times what grain alone would leave, at most."""
FEW_FRAMES = 2
LIKE_LOCKED_PX = 0.3


@dataclass(frozen=True, slots=True)
class Proposal:
    """A fill, and why it should do."""

    fill: Fill
    why: str


def first_look(fix: Fix, fill: Fill) -> Fix:
    """Return a fix filled so that something is seen soon: neither sharpened nor grained, texture at a small size."""
    if isinstance(fill, Texture):
        fill = replace(fill, is_draft=True)
    plain = replace(fix.match, sharpness_px=0.0, grain=GrainMatch(amount=0.0))
    return replace(fix, fill=fill, match=plain)


def proposed_fills(
    engine: Engine, shot: Shot, fix: Fix, frame: int, check: Check = lambda: None
) -> tuple[Proposal, ...]:
    """Return what a fix could be filled from, what should do best first.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    fix : Fix
        With a cover.
    frame : int
        The one that is looked at.
    check : callable
    """
    cover = matte_on(shot, fix.cover, frame)
    reach = reach_of(cover, shot.footage.bounds)
    if reach.is_empty:
        return ()
    line = Proposal(Span(), "A thin line: closed from both of its sides, on each frame.")
    drawn = [one.shape for _, one in fix.cover.drawn]
    has_lines = bool(drawn) and not any(shape.is_closed for shape in drawn)
    behind = surfaces_behind(shot, fix)
    seen = 0.0 if not behind or _stays_on(fix, behind) else _share_seen(engine, shot, fix, behind, check)
    check()
    is_plain = _is_plain(engine, shot, fix, frame, reach, check)
    found: list[Proposal] = []
    if has_lines and seen >= SEEN_OF_LINES:
        words = f"Other frames show {_share(seen)} of what it hides; what they do not is closed from both sides."
        found.append(Proposal(Donors(surface_ids=behind), words))
    if has_lines:
        found.append(line)
    if _is_of_few_frames(shot, fix):
        words = "It is on a frame or two alone: taken from the frames beside"
        how = ", along its surface." if behind else ", piece by piece."
        found.append(Proposal(Donors(surface_ids=behind), words + how))
    elif seen >= SEEN_ENOUGH:
        words = f"Other frames show {_share(seen)} of what it hides."
        found.append(Proposal(Donors(surface_ids=behind), words))
    rim = Proposal(Rim(), "Plain around it: surroundings grown inwards, under each frame's own light.")
    if is_plain:
        found.append(rim)
    if _can_be_carried(shot, fix):
        texture = Texture(home_frame=frame if mappings_of(shot)(fix.surface_id, frame) is not None else None)
        words = "Textured around it, and no frame shows it: closed with matching pieces, carried along."
        found.append(Proposal(texture, words))
    if SEEN_MOSTLY <= seen < SEEN_ENOUGH:
        found.append(Proposal(Donors(surface_ids=behind), f"Other frames show {_share(seen)} of it; the rest is open."))
    found.append(Proposal(Borrow(), "From beside it, where it looks most like this; drag it with Alt+B."))
    if not is_plain:
        found.append(Proposal(Rim(), "Surroundings grown inwards, though they are not plain."))
    first_of_kind = {type(one.fill): one for one in reversed(found)}
    return tuple(one for one in found if first_of_kind[type(one.fill)] is one)


def _share(seen: float) -> str:
    return "all" if seen > 0.9995 else f"{100 * seen:.0f} %"


def _is_of_few_frames(shot: Shot, fix: Fix) -> bool:
    """Return whether all of a cover is on a frame or two alone."""
    whole = shot.footage.frames
    if len(whole) <= FEW_FRAMES:
        return False
    lives = [[frame for frame in whole if is_within(fix.frames, frame) and is_within(part.frames, frame)]
             for part in fix.cover.parts]  # fmt: skip
    return bool(lives) and all(len(one) <= FEW_FRAMES for one in lives)


def _stays_on(fix: Fix, behind: tuple[str, ...]) -> bool:
    """Return whether a cover rides, unchanged, on all that is behind it: then no frame shows more than another."""
    drawn = [one for _, one in fix.cover.drawn]
    rides = all(one.surface_id in behind and len(one.shape.keys) == 1 for one in drawn)
    return len(behind) == 1 and bool(drawn) and len(drawn) == len(fix.cover.parts) and rides and not fix.frames


def _share_seen(engine: Engine, shot: Shot, fix: Fix, behind: tuple[str, ...], check: Check) -> float:
    """Return how much of a cover other frames show, on the worst of some frames."""
    project = ProjectRecord(shots=(shot,))
    there = edits.change_fix(project, shot.id, fix.id, fill=Donors(surface_ids=behind)).shot(shot.id)
    frames = [one for one in shot.footage.frames if is_within(fix.frames, one) and one not in shot.footage.missing]
    worst = 1.0
    for number in np.unique(np.linspace(0, len(frames) - 1, min(SEEN_FRAMES, len(frames))).round().astype(int)):
        check()
        cover = matte_on(shot, fix.cover, frames[number])
        scale = max(scale_of(share_level(cover)), SEEN_SCALE)
        seen = engine.elsewhere(there, there.fix(fix.id), frames[number], scale, check)
        if seen is None or not seen.hole.any():
            continue
        worst = min(worst, float((seen.count[seen.hole] > 0).mean()))
        if worst < SEEN_MOSTLY:  # by how much less does not matter
            break
    return worst


def _is_plain(engine: Engine, shot: Shot, fix: Fix, frame: int, reach: Window, check: Check) -> bool:
    """Return whether the surroundings of a cover show little more than slow changes and grain."""
    wide = reach.grown(RING_PX) & shot.footage.bounds
    picture = np.ascontiguousarray(engine.plate(shot.footage, frame, check)[wide.slices])
    matte = engine.matte(shot, fix.cover, frame, wide, check=check)
    hidden = (matte > 0).view(np.uint8)
    near, far = (cv2.dilate(hidden, np.ones((2 * by + 1, 2 * by + 1), np.uint8)) > 0 for by in (GAP_PX, RING_PX))
    ring = far & ~near
    if ring.sum() < RING_PX**2:
        return False
    seen = encoded(picture)
    share = cv2.GaussianBlur(ring.astype(np.float32), (0, 0), BLUR_PX)
    slow = cv2.GaussianBlur(seen * ring[..., None], (0, 0), BLUR_PX) / np.maximum(share, 1e-3)[..., None]
    left = float(np.median((seen - slow)[ring].std(axis=0)))
    return left < PLAIN * _grain_of(seen, ring) + 0.002


def _grain_of(seen: Picture, ring: np.ndarray) -> float:
    """Return how far pixels differ from their neighbours, as the deviation of grain that would do that."""
    across = (seen[:, 1:] - seen[:, :-1])[ring[:, 1:] & ring[:, :-1]]
    return float(1.4826 * np.median(np.abs(across)) / np.sqrt(2))


def _can_be_carried(shot: Shot, fix: Fix) -> bool:
    """Return whether a still of a fix would lie right on all frames: its surface is followed, or nothing moves."""
    if fix.surface_id:
        return mappings_of(shot)(fix.surface_id, shot.surface(fix.surface_id).home_frame) is not None
    riding = {one.surface_id for _, one in fix.cover.drawn if isinstance(one, Drawn)}
    return riding == {""} and (
        len(shot.footage.frames) == 1 or any(isinstance(one.how, Still) for one in shot.surfaces)
    )
