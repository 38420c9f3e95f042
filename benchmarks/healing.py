"""How healing's border shows: `python -m benchmarks.healing [PICTURE ...]`, the demo's first frame if none is given.

Dabs are healed at random places of an untouched picture, from where `Find a source` would take them, at 400 % or not:
what would be seen there is a step between neighbouring pixels across the border of the stroke. Its mean is held against
that of the untouched picture at the same pixels. Once alone, once with a thing, black or white, half under the stroke
and half beside it. In each row of the table the middle of all dabs and the ninth of ten.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Array, Brush, Source, Stroke, Tool
from gommage.core.paint import Canvas, best_sources, lay_stroke, plainly
from gommage.core.picture import Picture, luminance, read_picture
from gommage.demo import make_demo

DABS, MARGIN_PX, RADII_PX = 60, 120, (9, 28)


def border_ratios(picture: Picture, softness: float, thing: float | None, dabs: int = DABS, seed: int = 0) -> Picture:
    """Return for each of so many dabs how large steps across its border are, beside those of the untouched picture.

    Parameters
    ----------
    picture : (H, W, 3) float32
    softness : float
        Of the brush.
    thing : float or None
        How bright what stands half beside the stroke is; None: nothing stands there.
    dabs : int
    seed : int
    """
    rng, found = np.random.default_rng(seed), []
    height, width = picture.shape[:2]
    while len(found) < dabs:
        radius = float(rng.uniform(*RADII_PX))
        x, y = (int(one) for one in rng.uniform((MARGIN_PX, MARGIN_PX), (width - MARGIN_PX, height - MARGIN_PX)))
        around = (slice(y - MARGIN_PX, y + MARGIN_PX), slice(x - MARGIN_PX, x + MARGIN_PX))
        local, middle = picture[around], (MARGIN_PX, MARGIN_PX)
        there = _half_disc(local, radius) if thing is not None else np.zeros(local.shape[:2], bool)
        shown = local.copy()
        shown[there] = thing or 0.0
        sources = best_sources(shown, ~there, middle, radius, 1)
        if not sources:
            continue
        source = Source(dx=float(sources[0].dx), dy=float(sources[0].dy))
        brush = Brush(tool=Tool.HEAL, size_px=2 * radius, softness=softness, pressure=())
        points = Array([[MARGIN_PX + 0.5, MARGIN_PX + 0.5, 1.0]])
        blank = Canvas(shown)
        laid = lay_stroke(blank, blank, plainly(Stroke(id="dab", points=points, brush=brush, source=source)))
        inside = laid.cover(laid.bounds) > 0
        found.append(_steps(laid.whole(), inside, ~there) / _steps(local, inside, ~there))
    return np.array(found, np.float32)


def _half_disc(local: Picture, radius: float) -> NDArray[np.bool_]:
    """Return a disc as large as the brush, one radius to the right of it: half of it is under the stroke."""
    y, x = np.mgrid[: local.shape[0], : local.shape[1]] - MARGIN_PX
    out: NDArray[np.bool_] = np.hypot(x - radius, y) < radius
    return out


def _steps(picture: Picture, inside: NDArray[np.bool_], counts: NDArray[np.bool_]) -> float:
    """Return how far neighbours differ of which one is inside, as it is seen (a root of the light), on the mean."""
    seen = np.sqrt(np.maximum(luminance(picture), 0))
    total, count = 0.0, 0
    for axis in (0, 1):
        one, other = (np.take(inside, range(a, inside.shape[axis] - 1 + a), axis) for a in (0, 1))
        both = np.take(counts, range(inside.shape[axis] - 1), axis) & np.take(
            counts, range(1, inside.shape[axis]), axis
        )
        across = (one != other) & both
        total, count = total + np.abs(np.diff(seen, axis=axis))[across].sum(), count + across.sum()
    return float(total / max(count, 1))


def main(paths: list[str]) -> None:
    pictures = {Path(path).name: read_picture(Path(path), "sRGB Encoded Rec.709 (sRGB)") for path in paths}
    if not pictures:
        demo = make_demo(Path("build") / "demo")
        pictures = {"the demo": read_picture(demo.plate_path, demo.footage.colour_space)}
    print("| picture | beside the stroke | hard brush: middle; nine of ten below | soft brush: the same |")
    print("|---|---|---|---|")
    for name, picture in pictures.items():
        for what, thing in (("nothing", None), ("half of something black", 0.0), ("half of something white", 1.5)):
            told = []
            for softness in (0.0, 0.5):
                ratios = border_ratios(picture, softness, thing)
                told.append(f"{np.median(ratios):.2f}; {np.quantile(ratios, 0.9):.2f}")
            print(f"| {name} | {what} | {' | '.join(told)} |")


if __name__ == "__main__":
    main(sys.argv[1:])
