"""Pictures that nothing but files and strokes make: the plate, clean plates, and both made ready for resampling."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from gommage.core.cover import MatteAt, PictureAt, ScribbledAt, matte_pixels
from gommage.core.cover.files import matte_picture, open_matte
from gommage.core.document import Footage, FromPicture
from gommage.core.engine.cache import Cache
from gommage.core.engine.scribbles import Scribbles
from gommage.core.geometry import Window
from gommage.core.match import DENOISE_MARGIN_PX, Grain, without_grain
from gommage.core.paint import (
    Canvas,
    CanvasKey,
    Origin,
    Outcome,
    Read,
    Replay,
    ShotFrame,
    StrokeAt,
    StrokeInHand,
    StrokeSources,
    replayed,
)
from gommage.core.picture import (
    Picture,
    Plates,
    RawFrame,
    Splines,
    halved,
    open_plates,
    read_linear,
    read_picture,
    scale_of,
    spline_coefficients,
)
from gommage.core.picture.resample import SPLINE_MARGIN_PX
from gommage.errors import FootageError

__all__ = ["Freed", "Pictures"]

Check = Callable[[], None]
BLOCK_PX = 256
"""Side of the pieces in which a painted plate is made ready: a stroke makes its own pieces anew, not the whole."""
MARGIN_PX = 32
assert MARGIN_PX >= DENOISE_MARGIN_PX + SPLINE_MARGIN_PX


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class Freed:
    """By how much a plate is freed of which grain."""

    grain: Grain
    share: float


class Pictures:
    """The plate and what is painted on, from one cache."""

    def __init__(self, cache: Cache, replays: Cache) -> None:
        self._cache, self._replays = cache, replays
        self.scribbles = Scribbles(cache, lambda footage, frame, check: self.plate(footage, frame, 0, check))

    # -- the plate ------------------------------------------------------------------------------------------

    def plates(self, footage: Footage, check: Check = _never) -> Plates:
        """Return the opened footage."""
        return self._cache.get_or_make(("open", footage), lambda: open_plates(footage, check), check)

    def plates_if_there(self, footage: Footage) -> Plates | None:
        """Return the opened footage if it was opened."""
        return self._cache.get(("open", footage))

    def raw(self, footage: Footage, frame: int, check: Check = _never) -> RawFrame:
        """Return a frame as its file holds it (not cached; `plate` is)."""
        return self.plates(footage, check).read(frame, check)

    def plate(self, footage: Footage, frame: int, level: int = 0, check: Check = _never) -> Picture:
        """Return a frame of the plate, averaged down by a level.

        (h, w, 3) float32, scene-linear. Not to be modified.
        """
        if level:
            return self._cache.get_or_make(
                ("plate", footage, frame, level),
                lambda: halved(self.plate(footage, frame, level - 1, check), 1),
                check,
            )

        def read() -> Picture:
            raw = self.raw(footage, frame, check)
            check()
            return read_linear(raw, footage.colour_space, check)

        return self._cache.get_or_make(("plate", footage, frame, 0), read, check)

    def plate_if_there(self, footage: Footage, frame: int, level: int = 0) -> Picture | None:
        """Return a frame of the plate if it is in the cache."""
        return self._cache.get(("plate", footage, frame, level))

    def matte(
        self, footage: Footage, matte: MatteAt, window: Window, scale: float = 1.0, check: Check = _never
    ) -> Picture:
        """Return a window of a matte of a shot, parts kept one by one: (h, w) float32."""

        def keep(name: Hashable, make: Callable[[], Picture]) -> Picture:
            return self._cache.get_or_make((footage, name), make, check)

        def picture_of(one: PictureAt | ScribbledAt) -> Picture:
            return self.matte_of(footage, one, check)

        return matte_pixels(matte, window, scale, keep, picture_of)

    def matte_of(self, footage: Footage, one: PictureAt | ScribbledAt, check: Check = _never) -> Picture:
        """Return the picture (H, W) of a matte that is not drawn: from a file, or from scribbles."""
        if isinstance(one, ScribbledAt):
            return self.scribbles.matte(footage, one, check)
        return self.matte_file((footage.width, footage.height), one)

    def matte_file(self, size_wh: tuple[int, int], one: PictureAt) -> Picture:
        """Return the picture of a matte from a file, (H, W) as large as the shot; nothing beyond the file's frames.

        Raises
        ------
        FootageError
            If it cannot be read, has no such channel, or is of other proportions than the shot.
        """
        plates = self._cache.get_or_make(("open matte", one.path), lambda: open_matte(one.path))

        def read() -> Picture:
            return matte_picture(plates, one.channel, one.frame, size_wh)

        found: Picture = self._cache.get_or_make(("matte file", one, size_wh), read)
        return found

    # -- clean plates ---------------------------------------------------------------------------------------

    def _base(self, key: CanvasKey, check: Check) -> Picture:
        """Return a clean plate before any stroke: the shot's frame, or the picture it was given."""
        base = key.base
        if not isinstance(base, FromPicture):
            return self.plate(key.footage, key.home_frame, 0, check)

        def load() -> Picture:
            picture = read_picture(Path(base.path), base.colour_space, check)
            wanted = key.footage.height, key.footage.width
            if picture.shape[:2] != wanted:
                raise FootageError(
                    f"{Path(base.path).name} is {picture.shape[1]} x {picture.shape[0]}, the shot is "
                    f"{wanted[1]} x {wanted[0]}.",
                    base.path,
                )
            return picture

        return self._cache.get_or_make(("picture", base, key.footage.width, key.footage.height), load, check)

    def canvas(self, key: CanvasKey, check: Check = _never) -> Canvas:
        """Return a clean plate with its strokes."""
        blank = self._cache.get_or_make(("canvas", key.untouched), lambda: Canvas(self._base(key, check)), check)

        def origin(stroke: StrokeAt) -> Read | None:
            return self.origin(stroke.origin, key.footage, 0, check)

        return self.painted(key.untouched, blank, key.strokes, StrokeSources(origin), check)

    def origin(self, origin: Origin, footage: Footage, level: int, check: Check) -> Read | None:
        """Return what a stroke takes its pixels from, at a level: None for what it is painted on."""
        if isinstance(origin, ShotFrame):
            plate = self.plate(footage, origin.frame, level, check)
            return Read(lambda window: plate[window.slices], footage.bounds.scaled(scale_of(level)))
        if isinstance(origin, CanvasKey):
            canvas = self.canvas(origin, check)
            if not level:
                return Read.of(canvas)
            small = self._cache.get_or_make(("canvas", origin, level), lambda: halved(canvas.whole(), level), check)
            return Read(lambda window: small[window.slices], canvas.bounds.scaled(scale_of(level)))
        return None

    def matte_over(
        self, mattes: tuple[MatteAt, ...], footage: Footage, scale: float, check: Check
    ) -> Callable[[Window], Picture] | None:
        """Return what gives the union of mattes over a window, (h, w); None of none."""
        if not mattes:
            return None

        def over(window: Window) -> Picture:
            found = [self.matte(footage, matte, window, scale, check) for matte in mattes]
            return found[0] if len(found) == 1 else np.maximum.reduce(found)

        return over

    def painted(
        self, name: Hashable, blank: Canvas, strokes: tuple[StrokeAt, ...], sources: StrokeSources,
        check: Check = _never,
    ) -> Canvas:  # fmt: skip
        """Return strokes laid on a blank canvas; of those that were laid on it before, what a change does not reach
        is taken from then.

        Parameters
        ----------
        name : hashable
            All that the blank depends on.
        blank : Canvas
        strokes : tuple of StrokeAt
        sources : StrokeSources
        check : callable
        """
        if not strokes:
            return blank

        def paint() -> Canvas:
            earlier = self._replays.get(name) or Replay()
            canvas, replay = replayed(blank, strokes, sources, earlier, check)
            self._replays.put(name, replay.within(self._replays.budget_bytes // 2))
            return canvas

        return self._cache.get_or_make(("painted", name, strokes), paint, check)

    def painted_if_there(self, name: Hashable, strokes: tuple[StrokeAt, ...]) -> Canvas | None:
        """Return strokes laid on a blank canvas if they are in the cache."""
        return self._cache.get(("painted", name, strokes)) if strokes else None

    def keep_painted(self, name: Hashable, strokes: tuple[StrokeAt, ...], before: Canvas, hand: StrokeInHand) -> None:
        """Keep what the hand painted as the last of the strokes, so that it need not be painted again."""
        self._cache.put(("painted", name, strokes), hand.canvas.counted(len(hand.written)))
        earlier = self._replays.get(name) or Replay()
        if earlier.strokes == strokes[:-1]:
            replay = earlier.followed_by(Outcome.of(before, strokes[-1], hand))
            self._replays.put(name, replay.within(self._replays.budget_bytes // 2))

    def splines(
        self, key: CanvasKey, window: Window, level: int, freed: Freed | None, canvas: Canvas | None = None,
        check: Check = _never,
    ) -> Splines:  # fmt: skip
        """Return a window of a clean plate ready to be resampled, averaged down by a level.

        Parameters
        ----------
        key : CanvasKey
        window : Window
            In pixels of the level.
        level : int
        freed : Freed or None
            The grain that it is freed of.
        canvas : Canvas, optional
            What is painted in place of the key's own: a stroke that is still in the hand.
        check : callable
        """
        canvas = canvas or self.canvas(key, check)
        size = -(-canvas.bounds.width // 2**level), -(-canvas.bounds.height // 2**level)
        bounds = Window.of(*size)
        window = window & bounds
        if window.is_empty:  # nothing of it is seen; the nearest pixels stand for it
            window = Window.of(min(8, size[0]), min(8, size[1]))
        whole = window.aligned(BLOCK_PX) & bounds
        out = np.empty((whole.height, whole.width, 3), np.float32)
        for top in range(whole.top, whole.bottom, BLOCK_PX):
            for left in range(whole.left, whole.right, BLOCK_PX):
                check()
                block = Window(left, top, left + BLOCK_PX, top + BLOCK_PX) & bounds
                out[block.within(whole)] = self._block(key, canvas, block, bounds, level, freed, check)
        return Splines(whole, out)

    def _block(
        self, key: CanvasKey, canvas: Canvas, block: Window, bounds: Window, level: int, freed: Freed | None,
        check: Check,
    ) -> Picture:  # fmt: skip
        wide = block.grown(MARGIN_PX) & bounds
        full = wide.scaled(2**level) & canvas.bounds
        name = ("splines", key.untouched, canvas.content(full), block, level, freed)

        def prepare() -> Picture:
            pixels = halved(canvas.read(full), level)
            if freed is not None and freed.share > 0:
                clean = without_grain(pixels, freed.grain, at=(wide.left, wide.top), check=check)
                pixels = pixels + np.float32(freed.share) * (clean - pixels)
            return np.ascontiguousarray(spline_coefficients(pixels)[block.within(wide)])

        return self._cache.get_or_make(name, prepare, check)
