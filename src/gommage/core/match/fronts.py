"""What is in front of a cover, told apart from what is behind it where a pixel shows both."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture

__all__ = ["FRONT_REACH_PX", "front_edges"]

NEAR_PX, FAR_PX, FAR_COUNTS = 2.0, 8.0, 0.05
"""Colours are those of what is so near (a bell's deviation), and, so much less, of what is farther."""
WIDTHS, FAR_STEP_PX = 2.5, 4
"""Bells end at so many deviations; of what is farther a pixel is looked at every so many."""
FRONT_REACH_PX = round(WIDTHS * FAR_PX) + FAR_STEP_PX
"""What lies farther off has no say."""
ALONE = 0.02
"""Where less than this of one of the two is seen it is the other alone."""
ENOUGH, UNKNOWN = 0.02, 10.0
"""Of what is seen less than so much of around a place nothing is known: its colours vary by that."""
UNEVEN = 0.02
"""A colour is known no better than to so much of its level."""


def front_edges(picture: Picture, held: Picture, scale: float = 1.0) -> Picture:
    """Return by how much more an edge shows of what is in front than a mix of the picture with anything new would.

    A pixel that something in front covers in part shows both: mixed with new pixels by that share alone, what is behind
    would be left in it as a fringe. Colours in front and behind are told by what is near and shows one of them alone;
    what their mix leaves unexplained goes to that which varies more.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Scene-linear.
    held : (h, w) float32
        How far something is in front, 0 to 1.
    scale : float
        Pixels a pixel of the frame.

    Returns
    -------
    (h, w, 3) float32
        The share times what the colour in front differs from the picture: 0 where the share is 0 or within a
        thousandth of 1, and where nothing is known of what is behind.

    References
    ----------
    Y.-Y. Chuang, B. Curless, D. Salesin, R. Szeliski, A Bayesian approach to digital matting, CVPR 2001,
    doi:10.1109/CVPR.2001.990970.
    """
    from gommage.core.match.kernels import edges_in_front  # compiled code is loaded late

    near, far = _bell(NEAR_PX * scale, 1), _bell(FAR_PX * scale, max(round(FAR_STEP_PX * scale), 1))
    out = np.zeros(picture.shape, np.float32)
    edges_in_front(np.ascontiguousarray(picture), np.ascontiguousarray(held), near, far,
                   max(round(FAR_STEP_PX * scale), 1), FAR_COUNTS, ALONE, ENOUGH, UNKNOWN, UNEVEN, out)  # fmt: skip
    return out


@lru_cache(maxsize=16)
def _bell(size_px: float, step: int) -> NDArray[np.float32]:
    """Return what places count that lie so many pixels apart, from -n to n steps away: (2 n + 1,), 1 together."""
    size = max(size_px, 0.5)
    away = np.arange(-round(WIDTHS * size / step), round(WIDTHS * size / step) + 1) * step
    counts = np.exp(-0.5 * (away / size) ** 2)
    return (counts / counts.sum()).astype(np.float32)
