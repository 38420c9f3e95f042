"""A stand-in for a picture editor: paints a dot into a file, as a script would.

``python -m gommage.demo.editor FILE X Y RADIUS RED GREEN BLUE [--forget]``: scene-linear colour; with ``--forget`` all
metadata is lost, as with editors that keep none.
"""

from __future__ import annotations

import argparse
from pathlib import Path

import numpy as np

from gommage.core.picture.stills import read_still
from gommage.core.picture.writing import write_still

__all__ = ["main", "paint_dot"]


def paint_dot(
    path: Path, x: float, y: float, radius: float, colour: tuple[float, float, float], *, forgets: bool = False
) -> None:
    """Paint a round dot into a float picture file, and save it in place."""
    raw = read_still(path)
    pixels = raw.pixels.astype(np.float32)
    rows, columns = np.mgrid[: pixels.shape[0], : pixels.shape[1]]
    dot = np.hypot(columns + 0.5 - x, rows + 0.5 - y) <= radius
    pixels[dot] = colour
    alpha = raw.alpha
    if alpha is not None:
        alpha = np.where(dot, np.float32(1), alpha.astype(np.float32))
    write_still(path, pixels.astype(np.float16), bits=16, alpha=alpha, attributes=None if forgets else raw.attributes)


def main() -> None:
    """Run from the command line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("file", type=Path)
    for name in ("x", "y", "radius", "red", "green", "blue"):
        parser.add_argument(name, type=float)
    parser.add_argument("--forget", action="store_true")
    told = parser.parse_args()
    paint_dot(told.file, told.x, told.y, told.radius, (told.red, told.green, told.blue), forgets=told.forget)


if __name__ == "__main__":
    main()
