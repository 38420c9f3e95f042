"""Render a shot to files. Outside the fixes the files' own pixels go through untouched."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable, Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.disk import clear_left_overs, reason
from gommage.core.document import FromFile, FromPicture, Placed, Shot, placement, store
from gommage.core.document.records.project import SCENE_LINEAR
from gommage.core.engine.evaluate import Engine
from gommage.core.geometry import Window
from gommage.core.picture import Picture, RawFrame, resample
from gommage.core.picture.colour import SRGB, decode, encode
from gommage.core.picture.writing import STILL_FORMATS, MovieWriter, StillFormat, write_still
from gommage.errors import FootageError, RenderError

__all__ = ["RenderReport", "RenderTarget", "format_like", "render", "render_in_processes"]


@dataclass(frozen=True, slots=True)
class RenderTarget:
    """Where to and as what.

    Attributes
    ----------
    path : Path
        A folder for stills, or a movie's file.
    format : str
        A key of `STILL_FORMATS`; empty: like the plate. Ignored for movies.
    name : str
        What still files are called before the frame number; empty: like the plate's.
    held_still : str
        Id of a surface that is held still over the frames, as it lies on its home frame; empty: as filmed.
    """

    path: Path
    format: str = ""
    name: str = ""
    held_still: str = ""

    @property
    def is_movie(self) -> bool:
        """Whether one movie is written instead of stills."""
        return self.path.suffix.lower() in MovieWriter.CODECS


@dataclass(frozen=True, slots=True)
class RenderReport:
    """What was written, and what could not be (frame, sentence)."""

    written: tuple[Path, ...]
    left_out: tuple[tuple[int, str], ...] = ()


def format_like(raw: RawFrame, suffix: str) -> StillFormat:
    """Return the still format that keeps a plate's pixels as they are."""
    suffix = {".tiff": ".tif", ".jpg": ".tif", ".jpeg": ".tif", ".cin": ".dpx"}.get(suffix.lower(), suffix.lower())
    for candidate in STILL_FORMATS.values():
        same_depth = candidate.dtype == raw.pixels.dtype.name and (suffix != ".dpx" or candidate.bits == raw.bits)
        if candidate.suffix == suffix and same_depth:
            return candidate
    return STILL_FORMATS["exr-half" if raw.pixels.dtype.kind == "f" else "tiff-16"]


def render(
    engine: Engine,
    shot: Shot,
    frames: Iterable[int],
    target: RenderTarget,
    progress: Callable[[int, int], None] = lambda done, total: None,
    check: Callable[[], None] = lambda: None,
) -> RenderReport:
    """Write frames of a shot's result.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    frames : iterable of int
        Frame numbers; files carry them.
    target : RenderTarget
    progress : callable
        Called with frames done and frames in all.
    check : callable
        Called before each frame; raises `Cancelled` to stop. What was written stays; a movie is discarded.

    Returns
    -------
    RenderReport
        Frames of the plate that are missing or damaged are left out and named.

    Raises
    ------
    RenderError
        If a file cannot be written.
    """
    wanted = list(frames)
    if not wanted:
        raise RenderError("There are no frames to render.")
    if target.name and (os.path.basename(target.name) != target.name or "\0" in target.name or target.name[0] == "."):
        raise RenderError(f"{target.name} is no name for files: it must not lead to another folder.")
    folder = target.path.parent if target.is_movie else target.path
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise RenderError(f"{folder} could not be made: {reason(error, folder)}. Choose another folder.") from error
    except ValueError as error:
        raise RenderError("The folder's name cannot be used. Choose another folder.") from error
    if target.is_movie:
        return _render_movie(engine, shot, wanted, target, progress, check)
    written: list[Path] = []
    left_out: list[tuple[int, str]] = []
    _clear_stills(engine, shot, wanted, target)
    for count, frame in enumerate(wanted, 1):
        check()
        try:
            written.append(_render_still(engine, shot, frame, target, check))
        except FootageError as error:
            left_out.append((frame, str(error)))
        progress(count, len(wanted))
    return RenderReport(tuple(written), tuple(left_out))


def _render_still(engine: Engine, shot: Shot, frame: int, target: RenderTarget, check: Callable[[], None]) -> Path:
    raw = engine.raw(shot.footage, frame, check)
    source = Path(engine.plates(shot.footage).file_of(frame))
    kind = STILL_FORMATS[target.format] if target.format else format_like(raw, source.suffix)
    path = target.path / _file_name(source, frame, kind.suffix, target.name, is_movie=shot.footage.is_movie)
    refuse_sources(path, shot, source)
    pixels = composed(engine, shot, frame, raw, kind, target.held_still, check)
    keeps_alpha = shot.footage.keep_alpha and raw.alpha is not None and not target.held_still
    alpha = _as_type(raw.alpha, kind) if keeps_alpha and raw.alpha is not None else None
    is_straight = raw.is_straight and not kind.is_linear
    if alpha is not None and raw.is_straight and kind.is_linear:  # float files hold colours times their alpha
        pixels = np.asarray(pixels, np.float32) * np.asarray(alpha, np.float32)[..., None]
        pixels = pixels.astype(kind.dtype)
    write_still(path, pixels, bits=kind.bits, alpha=alpha, attributes=raw.attributes, is_straight=is_straight)
    return path


def matte_sources(shot: Shot) -> list[Path]:
    """Return the files that mattes of a shot are made from; of a numbered one those that are there."""
    mattes = [one.matte for one in shot.mattes] + [matte for fix in shot.fixes for matte in fix.mattes]
    return _there({part.source.path for matte in mattes for part in matte.parts if isinstance(part.source, FromFile)})


def laid_files(shot: Shot) -> list[Path]:
    """Return the files of pictures that are laid; of numbered ones those that are there."""
    fills = [fix.fill for fix in shot.fixes]
    return _there({one.footage.path for one in fills if isinstance(one, Placed) and one.footage is not None})


def _there(paths: set[str]) -> list[Path]:
    found = []
    for path in map(Path, sorted(paths)):
        with contextlib.suppress(OSError):
            found += list(path.parent.glob(path.name.replace("#", "?"))) if "#" in path.name else [path]
    return found


def refuse_sources(path: Path, shot: Shot, *sources: Path) -> None:
    """Refuse to write over what the shot is made from, by whatever name or link it goes.

    Raises
    ------
    RenderError
    """
    if not path.exists():
        return
    bases = (plate.base for plate in shot.clean_plates)
    pictures = [Path(base.path) for base in bases if isinstance(base, FromPicture)]
    mattes, laid = matte_sources(shot), laid_files(shot)
    for source in (*sources, Path(shot.footage.path), *pictures, *mattes, *laid):
        with contextlib.suppress(OSError, ValueError):
            if path.samefile(source):
                kinds = {"a clean plate's picture": pictures, "a matte": mattes, "a picture that is laid": laid}
                what = next((what for what, files in kinds.items() if source in files), "the plate")
                raise RenderError(f"{path.name} would overwrite {what}. Choose another folder.")


def _clear_stills(engine: Engine, shot: Shot, frames: list[int], target: RenderTarget) -> None:
    """Remove what was left of these frames' files when an earlier render was killed."""
    plates = engine.plates(shot.footage)
    suffixes = {one.suffix for one in STILL_FORMATS.values()}
    names = {
        _file_name(Path(plates.file_of(frame)), frame, suffix, target.name, is_movie=shot.footage.is_movie)
        for frame in frames
        for suffix in suffixes
    }
    clear_left_overs(target.path, names)


def _file_name(source: Path, frame: int, suffix: str, name: str, *, is_movie: bool) -> str:
    if is_movie or not re.search(r"\d+$", source.stem):
        return f"{name or source.stem}.{frame:04d}{suffix}"
    digits = re.search(r"\d+$", source.stem)
    assert digits is not None
    stem = f"{name}." if name else source.stem[: digits.start()]
    return f"{stem}{digits.group()}{suffix}"


def _output_space(shot: Shot, raw: RawFrame, kind: StillFormat) -> str:
    """Return the colour space of the files: the plate's, unless float becomes integer or the other way round."""
    if (raw.pixels.dtype.kind == "f") == kind.is_linear:
        return shot.footage.colour_space
    return SCENE_LINEAR if kind.is_linear else SRGB


def steadied(
    engine: Engine, shot: Shot, frame: int, surface_id: str, check: Callable[[], None] = lambda: None
) -> Picture:
    """Return a frame of the result with a surface held still: (H, W, 3) float32, scene-linear, black around it.

    Raises
    ------
    FootageError
        If the surface is not known on the frame: there is no such picture.
    """
    surface = shot.surface(surface_id)
    placed = placement(shot, surface)
    mapping = placed.mapping(frame) if placed is not None else None
    if mapping is None:
        raise FootageError(f"Frame {frame} is left out: {surface.name} is not followed there.")
    pixels, inside = resample(engine.result(shot, frame, check=check), mapping, shot.footage.bounds)
    return pixels * inside[..., None]


def composed(
    engine: Engine,
    shot: Shot,
    frame: int,
    raw: RawFrame,
    kind: StillFormat,
    held_still: str = "",
    check: Callable[[], None] = lambda: None,
) -> NDArray[np.generic]:
    """Return a frame of the result as a file of a kind holds it.

    Where no fix has alpha, the plate's stored numbers are copied, never decoded and encoded again, as long as the
    kind can hold them.
    """
    space = _output_space(shot, raw, kind)
    if held_still:
        return encode(steadied(engine, shot, frame, held_still, check), space, np.dtype(kind.dtype))
    if space == shot.footage.colour_space:
        out = _as_type(raw.pixels, kind).copy()
    else:
        out = encode(decode(raw.pixels, shot.footage.colour_space), space, np.dtype(kind.dtype))
    patches = engine.all_patches(shot, frame, check=check)
    if not patches:
        return out
    touched = Window(0, 0, 0, 0)
    for patch in patches:
        touched = touched | patch.window
    changed = np.zeros((touched.height, touched.width), bool)
    for patch in patches:
        changed[patch.window.within(touched)] |= patch.alpha > 0
    result = engine.result(shot, frame, touched, check=check)
    new = encode(result, space, np.dtype(kind.dtype))
    out[touched.slices][changed] = new[changed]
    return out


def _as_type(pixels: NDArray[np.generic], kind: StillFormat) -> NDArray[np.generic]:
    """Return stored numbers in another pixel type of the same meaning; the same type comes back as it is."""
    wanted = np.dtype(kind.dtype)
    if pixels.dtype == wanted:
        return pixels
    if wanted.kind == "f":
        if pixels.dtype.kind == "f":
            return pixels.astype(wanted)
        return (pixels.astype(np.float32) / (255 if pixels.dtype == np.uint8 else 65535)).astype(wanted)
    if pixels.dtype.kind == "f":
        return (np.clip(pixels.astype(np.float32), 0, 1) * np.iinfo(wanted).max + 0.5).astype(wanted)
    if wanted == np.uint16:
        return pixels.astype(np.uint16) * np.uint16(257)
    return ((pixels.astype(np.uint32) * 255 + 32767) // 65535).astype(np.uint8)


def _render_movie(
    engine: Engine,
    shot: Shot,
    frames: list[int],
    target: RenderTarget,
    progress: Callable[[int, int], None],
    check: Callable[[], None],
) -> RenderReport:
    footage = shot.footage
    refuse_sources(target.path, shot, *(Path(engine.plates(footage).file_of(frame)) for frame in footage.frames))
    clear_left_overs(target.path.parent, [target.path.name])
    writer = MovieWriter(target.path, (footage.width, footage.height), footage.frames_per_second)
    kind = STILL_FORMATS["tiff-16"]
    left_out: list[tuple[int, str]] = []
    last: NDArray[np.generic] | None = None
    try:
        for count, frame in enumerate(frames, 1):
            check()
            try:
                raw = engine.raw(footage, frame, check)
                last = composed(engine, shot, frame, raw, kind, target.held_still, check)
            except FootageError as error:
                left_out.append((frame, f"{error} The frame before stands in for it."))
            if last is None:
                last = np.zeros((footage.height, footage.width, 3), np.uint16)
            writer.add(last.astype(np.uint16))
            progress(count, len(frames))
        writer.finish()
    except BaseException:
        writer.discard()
        raise
    return RenderReport((target.path,), tuple(left_out))


def _render_share(project_folder: str, shot_id: str, frames: list[int], target: RenderTarget) -> RenderReport:
    cv2.setNumThreads(1)
    shot = store.load(Path(project_folder)).shot(shot_id)
    return render(Engine(), shot, frames, target)


def render_in_processes(
    project_folder: Path,
    shot: Shot,
    frames: Iterable[int],
    target: RenderTarget,
    processes: int,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> RenderReport:
    """Write stills of a saved project's shot in several processes; see `render`."""
    wanted = list(frames)
    size = max(1, min(16, len(wanted) // (2 * processes)))
    shares = [wanted[start : start + size] for start in range(0, len(wanted), size)]
    written: list[Path] = []
    left_out: list[tuple[int, str]] = []
    with ProcessPoolExecutor(processes, get_context("spawn")) as pool:
        work = [pool.submit(_render_share, str(project_folder), shot.id, share, target) for share in shares]
        for one in work:
            report = one.result()
            written.extend(report.written)
            left_out.extend(report.left_out)
            progress(len(written) + len(left_out), len(wanted))
    return RenderReport(tuple(written), tuple(left_out))
