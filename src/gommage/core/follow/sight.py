"""How a follow looks at pictures: which channel, and how much of the grain is filtered away first."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Channel
from gommage.core.picture import Picture

__all__ = ["PLAIN_SIGHT", "Sight", "choose_sight", "grain_of_slopes", "noise_of"]

WEIGHTS = {
    Channel.LUMINANCE: (0.2126, 0.7152, 0.0722),
    Channel.RED: (1.0, 0.0, 0.0),
    Channel.GREEN: (0.0, 1.0, 0.0),
    Channel.BLUE: (0.0, 0.0, 1.0),
}
CLEARLY_BETTER = 1.15
"""Another mixture than luminance is taken only where it tells so much more."""
MIXED_FROM_PIXELS, ALONE_BETTER = 3000, 1.3
"""In fewer pixels grain would choose the mixture: one channel is taken, where it tells so much more."""
SIGMAS_PX = (0.6, 0.9, 1.3, 1.8, 2.5)
NOISE_SHARE = 0.35
"""Of the slopes' energy, at most this much may be grain; the weakest filter that keeps to it is taken."""
BLOCK = 8
LEVEL_PX, LEVEL_GRAINS = 5.0, 2.0
"""Over what distance light is taken to be even, and down to how many deviations of the grain contrast is made even."""


@dataclass(frozen=True, slots=True)
class Sight:
    """How a picture is looked at.

    Attributes
    ----------
    weights : tuple of float
        How much of each channel.
    sigma_px : float
        The blur it is given.
    noise : float
        The deviation of the grain before that.
    level_floor : float
        Above 0: what light changes slowly over is taken away, and contrast made even, down to so much deviation.
    """

    weights: tuple[float, float, float] = WEIGHTS[Channel.LUMINANCE]
    sigma_px: float = SIGMAS_PX[0]
    noise: float = 0.0
    level_floor: float = 0.0

    def one_channel(self, picture: Picture) -> Picture:
        """Return a picture (H, W, 3) as (H, W), not blurred yet."""
        return cv2.transform(picture, np.array([self.weights], np.float32))

    def blurred(self, picture: Picture) -> Picture:
        """Return a picture (H, W) blurred as far as its grain asks for, and levelled if it is to be."""
        blurred = cv2.GaussianBlur(picture, (0, 0), self.sigma_px)
        if not self.level_floor:
            return blurred
        detail = blurred - cv2.GaussianBlur(blurred, (0, 0), LEVEL_PX)
        return detail / np.maximum(_deviation_around(detail), np.float32(self.level_floor))

    def levelled(self, picture: Picture, mask: NDArray[np.uint8]) -> Sight:
        """Return the sight that sees the same where light varies inside the area (mask above 0) as where it does not.

        Parameters
        ----------
        picture : (H, W, 3) float32
        mask : (H, W) uint8
        """
        blurred = cv2.GaussianBlur(self.one_channel(picture), (0, 0), self.sigma_px)
        around = _deviation_around(blurred - cv2.GaussianBlur(blurred, (0, 0), LEVEL_PX))
        floor = LEVEL_GRAINS * self.noise / (2 * np.sqrt(np.pi) * self.sigma_px)
        typical = float(np.median(np.maximum(around, floor)[mask > 0])) if mask.any() else 1.0
        return replace(self, noise=self.noise / max(typical, 1e-12), level_floor=max(floor, 1e-6))


def _deviation_around(detail: Picture) -> Picture:
    return np.sqrt(cv2.GaussianBlur(detail * detail, (0, 0), LEVEL_PX))


PLAIN_SIGHT = Sight()


def noise_of(picture: Picture, mask: NDArray[np.uint8]) -> float:
    """Return the deviation of white grain in a picture (H, W), from the calmest quarter of its blocks.

    References
    ----------
    J. Immerkaer, Fast Noise Variance Estimation, Computer Vision and Image Understanding 64(2), 1996,
    doi:10.1006/cviu.1996.0060: a mask that edges and slopes do not pass; here block by block, since texture does.
    """
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32) / 6
    fine = np.abs(cv2.filter2D(picture, cv2.CV_32F, kernel))
    height, width = (side // BLOCK * BLOCK for side in picture.shape)
    if not (height and width):
        return float(fine.mean() * np.sqrt(np.pi / 2))
    blocks = fine[:height, :width].reshape(height // BLOCK, BLOCK, -1, BLOCK).mean(axis=(1, 3))
    inside = mask[:height, :width].reshape(height // BLOCK, BLOCK, -1, BLOCK).min(axis=(1, 3)) > 0
    chosen = blocks[inside] if inside.any() else blocks.ravel()
    return float(np.quantile(chosen, 0.25) * np.sqrt(np.pi / 2))


def _texture(picture: Picture, mask: NDArray[np.uint8], sigma: float, noise: float) -> tuple[float, float]:
    """Return the slopes' mean energy that is texture, and what grain adds to it, after a blur."""
    blurred = cv2.GaussianBlur(picture, (0, 0), sigma)
    gx = cv2.Sobel(blurred, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
    gy = cv2.Sobel(blurred, cv2.CV_32F, 0, 1, ksize=3, scale=1 / 8)
    total = float((gx**2 + gy**2)[mask > 0].mean())
    impulse = np.zeros((25, 25), np.float32)
    impulse[12, 12] = 1
    answer = cv2.Sobel(cv2.GaussianBlur(impulse, (0, 0), sigma), cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
    grain = 2 * noise**2 * float((answer**2).sum())
    return max(total - grain, 1e-4 * total), grain


@lru_cache(maxsize=64)
def grain_of_slopes(sigma_px: float, level: int) -> float:
    """Return the deviation of one component of the slope, a pixel of a pyramid's level, for white grain of deviation 1.

    Measured on grain itself, sent through the same blur and halvings.
    """
    picture = np.random.default_rng(0).standard_normal((256, 256)).astype(np.float32)
    picture = cv2.GaussianBlur(picture, (0, 0), sigma_px)
    for _ in range(level):
        picture = cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
    return float(cv2.Sobel(picture, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8).std())


def choose_sight(picture: Picture, mask: NDArray[np.uint8], channel: Channel = Channel.BEST) -> Sight:
    """Return how an area is best looked at.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear, around the area.
    mask : (H, W) uint8
        Above 0 inside the area.
    channel : Channel
        A fixed one, or the mixture that tells most.
    """
    if channel is not Channel.BEST:
        weights = WEIGHTS[channel]
    elif int((mask > 0).sum()) < MIXED_FROM_PIXELS:
        weights = _best_alone(picture, mask)
    else:
        weights = _telling(picture, mask)
    single = Sight(weights).one_channel(picture)
    noise = max(noise_of(single, mask), 1e-7)
    for sigma in SIGMAS_PX:
        texture, grain = _texture(single, mask, sigma, noise)
        if grain <= NOISE_SHARE * (texture + grain):
            break
    return Sight(weights, sigma, noise)


def _best_alone(picture: Picture, mask: NDArray[np.uint8]) -> tuple[float, float, float]:
    """Return the channel that tells clearly more than luminance does, else luminance: for a few hundred pixels."""
    told = {}
    for channel, weights in WEIGHTS.items():
        single = Sight(weights).one_channel(picture)
        noise = max(noise_of(single, mask), 1e-7)
        told[channel] = _texture(single, mask, SIGMAS_PX[1], noise)[0] / noise**2
    best = max(told, key=lambda one: told[one])
    return WEIGHTS[best if told[best] >= ALONE_BETTER * told[Channel.LUMINANCE] else Channel.LUMINANCE]


def _telling(picture: Picture, mask: NDArray[np.uint8]) -> tuple[float, float, float]:
    """Return how much of each channel tells most of where the texture is: slopes over grain, together.

    The mixture w that makes ``w S w / w N w`` largest, S being the products of the channels' slopes over the area, N
    their grain: the first vector of a generalised eigenvalue problem. None counts against the others, since light may
    change its colour.
    """
    channels = [np.ascontiguousarray(picture[..., index]) for index in range(3)]
    noise = np.array([max(noise_of(one, mask), 1e-7) for one in channels])
    slopes: list[NDArray[np.float64]] = []
    for one in channels:
        blurred = cv2.GaussianBlur(one, (0, 0), SIGMAS_PX[1])
        ways = [cv2.Sobel(blurred, cv2.CV_32F, *way, ksize=3, scale=1 / 8)[mask > 0] for way in ((1, 0), (0, 1))]
        slopes.append(np.concatenate(ways) / noise[len(slopes)])
    products = np.cov(np.array(slopes)) - np.eye(3) * grain_of_slopes(SIGMAS_PX[1], 0) ** 2
    vector = np.linalg.eigh(products)[1][:, -1]
    vector = np.maximum(vector * np.sign(vector.sum() or 1.0), 0.0)
    plain = np.array(WEIGHTS[Channel.LUMINANCE]) * noise

    def told(mixture: NDArray[np.float64]) -> float:
        return max(float(mixture @ products @ mixture / (mixture @ mixture)), 1e-12)

    if told(vector) < CLEARLY_BETTER * told(plain):
        return WEIGHTS[Channel.LUMINANCE]
    vector = vector / noise
    red, green, blue = (float(one) for one in vector / vector.sum())
    return red, green, blue
