"""Pictures that nothing but files and strokes make: the plate, clean plates, and both made ready for resampling."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, PictureAt, ScribbledAt, matte_pixels
from gommage.core.cover.files import matte_picture, open_matte
from gommage.core.document import Footage, FromPicture, Merged
from gommage.core.engine.cache import Cache
from gommage.core.engine.given import given_picture
from gommage.core.engine.inputs import FixInputs
from gommage.core.engine.scenes import ShotScene
from gommage.core.engine.scribbles import Scribbles
from gommage.core.fill.merging import merge
from gommage.core.fill.texture import close_still
from gommage.core.geometry import Window
from gommage.core.match import DENOISE_MARGIN_PX, Grain, without_grain
from gommage.core.paint import (
    Canvas,
    CanvasKey,
    CutOut,
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
    associated,
    halved,
    open_plates,
    read_linear,
    scale_of,
    spline_coefficients,
)
from gommage.core.picture.panoramas import flat_view
from gommage.core.picture.resample import SPLINE_MARGIN_PX

__all__ = ["NOTHING_IN_HAND", "Freed", "InHand", "Pictures", "ahead", "never_freed"]

Check = Callable[[], None]
InHand = Mapping[CanvasKey | FixInputs, Canvas]
"""What is painted in place of a clean plate's canvas, or of a fix's touch-up, while a stroke is in the hand."""
NOTHING_IN_HAND: InHand = {}
BLOCK_PX = 256
"""Side of the pieces in which a painted plate is made ready: a stroke makes its own pieces anew, not the whole."""
MARGIN_PX, PAINTED, AHEAD = 32, 0.5, 2
assert MARGIN_PX >= DENOISE_MARGIN_PX + SPLINE_MARGIN_PX


def _never() -> None:
    """Call nothing off."""


@lru_cache(maxsize=1)
def _ahead() -> ThreadPoolExecutor:
    """Return the threads that make what will be asked for soon. Nobody waits for them: who comes first makes it."""
    return ThreadPoolExecutor(AHEAD, "ahead")


def ahead(make: Callable[..., object], *args: Any) -> None:
    """Begin to make something that will be asked of the cache; errors are told to who asks for it then."""
    _ahead().submit(make, *args)


@dataclass(frozen=True, slots=True)
class Freed:
    """By how much a plate is freed of which grain."""

    grain: Grain
    share: float


def never_freed() -> None:
    """Free a plate of nothing."""


class Pictures:
    """The plate and what is painted on, from one cache."""

    def __init__(self, cache: Cache, replays: Cache) -> None:
        self._cache, self._replays = cache, replays
        self.making: tuple[str, float] | None = None  # what is made of many frames or pieces, and how much is done
        self.scribbles = Scribbles(cache, lambda footage, frame, check: self.plate(footage, frame, 0, check))

    # -- the plate ------------------------------------------------------------------------------------------

    def plates(self, footage: Footage, check: Check = _never) -> Plates:
        """Return the opened footage."""
        files = footage.of_files
        return self._cache.get_or_make(("open", files), lambda: open_plates(files, check), check)

    def plates_if_there(self, footage: Footage) -> Plates | None:
        """Return the opened footage if it was opened."""
        return self._cache.get(("open", footage.of_files))

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
            if footage.turned is not None:
                panorama = self.plate(footage.of_files, frame, 0, check)
                view = footage.turned.view_from_panorama(frame, (footage.width, footage.height))
                return flat_view(panorama, view, footage.bounds, check)
            raw = self.raw(footage, frame, check)
            check()
            return read_linear(raw, footage.colour_space, check)

        return self._cache.get_or_make(("plate", footage, frame, 0), read, check)

    def ahead(self, footage: Footage, frames: list[int], level: int = 0, check: Check = _never) -> None:
        """Begin to read frames of the plate that will be asked for."""
        missing = [frame for frame in frames if self.plate_if_there(footage, frame, level) is None]
        for frame in missing if len(missing) > 1 else ():
            ahead(self.plate, footage, frame, level, check)

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

    def merged(
        self, key: CanvasKey, check: Check = _never, told: Callable[[float], object] = lambda share: None
    ) -> tuple[Picture, NDArray[np.bool_]]:
        """Return a merged plate before any stroke, and where any frame shows it; see `gommage.core.fill.merging`."""

        def tell(share: float) -> None:
            self.making = "Merging a clean plate", share
            told(share)

        def make() -> tuple[Picture, NDArray[np.bool_]]:
            scene = ShotScene(self._cache, self, 0, never_freed, NOTHING_IN_HAND, check)
            try:
                return merge(key.untouched, scene, check, tell)
            finally:
                self.making = None

        return self._cache.get_or_make(("merged", key.untouched), make, check)

    def known(
        self, key: CanvasKey, window: Window, level: int, canvas: Canvas | None = None, check: Check = _never
    ) -> Picture | None:
        """Return where a clean plate shows anything, over the window that `splines` gives for one: (h, w) float32.

        None where it does so everywhere. Paint shows as well.
        """
        canvas = canvas or self.canvas(key, check)
        full = self.whole_blocks(canvas, window, level).scaled(2**level) & canvas.bounds
        shown = self.known_of(key, full, canvas, check)
        return None if shown is None else halved(shown, level)

    def known_of(
        self, key: CanvasKey, window: Window, canvas: Canvas | None = None, check: Check = _never
    ) -> Picture | None:
        """Return where a clean plate, paint with it, shows anything, over a window of it; None: everywhere."""
        if key.closing is not None:
            return None
        if isinstance(key.base, CutOut):
            alpha = self.cut_out(key, check)[1]
            return None if alpha is None else alpha[window.within(key.window)]
        if isinstance(key.base, Merged):
            found: NDArray[np.bool_] | None = self.merged(key, check)[1]
        else:
            found = self._loaded(key, check)[1] if isinstance(key.base, FromPicture) else None
        if found is None:
            return None
        canvas = canvas or self.canvas(key, check)
        shown = found[window.within(canvas.bounds)].astype(np.float32)
        if not canvas.painted_in(window).is_empty:
            shown = np.maximum(shown, canvas.cover(window) > PAINTED)
        return shown.astype(np.float32)

    def _loaded(self, key: CanvasKey, check: Check) -> tuple[Picture, NDArray[np.bool_] | None]:
        """Return the picture that a clean plate was given, and where its alpha says that there is anything."""
        base = key.base
        assert isinstance(base, FromPicture)

        def load() -> tuple[Picture, NDArray[np.bool_] | None]:
            return given_picture(base, key, check)

        return self._cache.get_or_make(("picture", base, key.window), load, check)

    def cut_out(self, key: CanvasKey, check: Check = _never) -> tuple[Picture, Picture | None]:
        """Return a frame of any footage, its colours times its alpha, and that alpha (h, w); None: all of it is there.

        Raises
        ------
        FootageError
            If it cannot be read.
        """
        base, footage = key.base, key.footage
        assert isinstance(base, CutOut)

        def make() -> tuple[Picture, Picture | None]:
            if base.has_alpha:
                raw = self.raw(footage, key.home_frame, check)
                picture, alpha = associated(raw, footage.colour_space, check)
            else:
                picture, alpha = self.plate(footage, key.home_frame, 0, check), None
            if base.subject.parts:
                subject = self.matte(footage, base.subject, footage.bounds, 1.0, check)
                alpha = subject if alpha is None else alpha * subject
                picture = picture * subject[..., None]
            return picture, alpha

        return self._cache.get_or_make(("cut out", key.untouched), make, check)

    def closed(
        self, key: CanvasKey, check: Check = _never, told: Callable[[float], object] = lambda share: None
    ) -> Picture:
        """Return a clean plate before any stroke whose hole is closed; see `gommage.core.fill.texture`."""
        bare = replace(key.untouched, closing=None)

        def tell(share: float) -> None:
            self.making = "Closing with pieces of the picture", share
            told(share)

        def make() -> Picture:
            still, known = self._base(bare, check), None
            if key.closing.hole is None:
                shown = self.known_of(bare, key.window, Canvas(still, at=key.window), check)
                known = None if shown is None else shown > PAINTED
            scene = ShotScene(self._cache, self, 0, never_freed, NOTHING_IN_HAND, check)
            try:
                return close_still(key, still, known, scene, check, tell)
            finally:
                self.making = None

        return self._cache.get_or_make(("closed", key.untouched), make, check)

    def _base(self, key: CanvasKey, check: Check) -> Picture:
        """Return a clean plate before any stroke: the shot's frame, the picture it was given, or what was merged."""
        base = key.base
        if key.closing is not None:
            return self.closed(key, check)
        if isinstance(base, Merged):
            return self.merged(key, check)[0]
        if isinstance(base, FromPicture):
            return self._loaded(key, check)[0]
        if isinstance(base, CutOut):
            return self.cut_out(key, check)[0]
        return self.plate(key.footage, key.home_frame, 0, check)

    def canvas(self, key: CanvasKey, check: Check = _never) -> Canvas:
        """Return a clean plate with its strokes."""
        blank = self._cache.get_or_make(
            ("canvas", key.untouched), lambda: Canvas(self._base(key, check), at=key.window), check
        )

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
            smaller = canvas.bounds.scaled(scale_of(level))
            return Read(lambda window: small[window.within(smaller)], smaller)
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
        is_strange = isinstance(key.base, CutOut) and not key.base.has_grain
        if isinstance(key.base, Merged) or key.scale != 1 or is_strange:
            freed = None  # a mean of many frames has next to none
        bounds = canvas.bounds.scaled(scale_of(level))
        whole = self.whole_blocks(canvas, window, level)
        out = np.empty((whole.height, whole.width, 3), np.float32)
        for top in range(whole.top // BLOCK_PX * BLOCK_PX, whole.bottom, BLOCK_PX):
            for left in range(whole.left // BLOCK_PX * BLOCK_PX, whole.right, BLOCK_PX):
                check()
                block = Window(left, top, left + BLOCK_PX, top + BLOCK_PX) & bounds
                out[block.within(whole)] = self._block(key, canvas, block, bounds, level, freed, check)
        return Splines(whole, out)

    @staticmethod
    def whole_blocks(canvas: Canvas, window: Window, level: int) -> Window:
        """Return the blocks of a canvas that a window touches, both in pixels of a level."""
        bounds = canvas.bounds.scaled(scale_of(level))
        window = window & bounds
        if window.is_empty:  # nothing of it is seen; the nearest pixels stand for it
            left, top = bounds.left, bounds.top
            window = Window(left, top, min(left + 8, bounds.right), min(top + 8, bounds.bottom))
        return window.aligned(BLOCK_PX) & bounds

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
