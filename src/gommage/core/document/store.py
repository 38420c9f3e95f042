"""Projects on disk: a folder `NAME.gommage/` with a readable `project.json`, written atomically."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from gommage.core.disk import clear_left_overs, read_file, reason, write_whole
from gommage.core.document.arrays import Array, decode_array, encode_array
from gommage.core.document.checks import dangling, unsupported
from gommage.core.document.records import (
    SCHEMA_VERSION,
    CleanPlate,
    Fill,
    FromFile,
    FromPicture,
    Matte,
    MattePart,
    Placed,
    Project,
    Shot,
    Texture,
)
from gommage.core.document.soundness import MOST_SHOTS, at, unplaceable, unsound
from gommage.core.document.upgrades import UPGRADES
from gommage.errors import ProjectChangedError, ProjectError

__all__ = [
    "FILE_NAME",
    "FOLDER_SUFFIX",
    "decoded",
    "encoded",
    "folder_of",
    "absolute",
    "Opened",
    "from_plain",
    "json_schema",
    "load",
    "opened",
    "save",
    "to_plain",
]

FOLDER_SUFFIX = ".gommage"
FILE_NAME = "project.json"
LARGEST_FILE = 200 * 2**20
"""Bytes of a project or a journal: some ten thousand long strokes."""
MOST_VALUES = 4_000_000
"""In one of them; what has many numbers has them in packed arrays."""
DAMAGED = (
    msgspec.ValidationError, ValueError, LookupError, TypeError, AttributeError, ArithmeticError, RecursionError,
    MemoryError,
)  # fmt: skip
"""What Python raises for plain data that are not what they should be."""


def to_plain(record: object) -> Any:
    """Return dicts, lists, numbers and strings for a record."""
    return msgspec.to_builtins(record, enc_hook=encode_array)


def encoded(record: object, *, is_readable: bool = False) -> bytes:
    """Return a record, or plain data, as JSON."""
    text = msgspec.json.encode(record, enc_hook=encode_array)
    return msgspec.json.format(text, indent=1) if is_readable else text


def decoded(text: bytes) -> Any:
    """Return the plain data that JSON stands for.

    Raises
    ------
    ValueError
        If it is cut off or not JSON.
    """
    values = text.count(b",")
    if values > MOST_VALUES:
        raise ValueError(f"has {values} values; {MOST_VALUES} are the most")
    try:
        return msgspec.json.decode(text)
    except UnicodeDecodeError as error:
        raise ValueError("is not UTF-8 text") from error
    except RecursionError as error:
        raise ValueError("is nested too deep") from error
    except msgspec.DecodeError as error:
        raise ValueError(f"is cut off or not JSON ({error})") from error


def folder_of(path: Path) -> Path:
    """Return a project's folder, given that or the file in it."""
    return path.parent if path.name == FILE_NAME else path


def from_plain(plain: object) -> Project:
    """Return the project that plain data stand for, upgrading older versions.

    Raises
    ------
    ProjectError
        If the data are of a newer version or not a project.
    """
    if not isinstance(plain, dict) or not isinstance(plain.get("version"), int):
        raise ProjectError("this is not a Gommage project: it has no version number")
    version = plain["version"]
    if version > SCHEMA_VERSION:
        raise ProjectError(
            f"it was written by a newer Gommage (version {version}; this one reads up to {SCHEMA_VERSION}). "
            f"Open it there, or update"
        )
    shots = plain.get("shots")
    if isinstance(shots, list) and len(shots) > MOST_SHOTS:
        raise ProjectError(f"it has {len(shots)} shots; {MOST_SHOTS} are the most")
    try:
        while version < SCHEMA_VERSION:
            plain = UPGRADES[version](plain)
            version += 1
        project = msgspec.convert(plain, Project, dec_hook=decode_array)
    except DAMAGED as error:
        raise ProjectError(f"its contents are damaged: {_placed(error)}") from error
    fault = unsound(project) or next(_faults(project), "")
    if fault:
        raise ProjectError(f"it cannot be used: {fault}")
    return project


def _faults(project: Project) -> Iterator[str]:
    for index, shot in enumerate(project.shots):
        fault = dangling(shot) or unsupported(shot) or unplaceable(shot)
        if fault:
            yield at(f"shots[{index}]", fault.rstrip("."))


def _placed(error: BaseException) -> str:
    """Return what is wrong with plain data, its place in front: ``shots[0].name: Expected `str`, got `int```."""
    what, _, place = str(error).partition(" - at `$")
    return f"{place.rstrip('`').lstrip('.')}: {what}" if place else what or type(error).__name__


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of `project.json`."""

    def of_array(kind: type) -> dict[str, Any]:
        if kind is Array:
            listed = {"type": "array", "description": "numbers, or nested lists of numbers of equal length"}
            packed = {
                "type": "object",
                "description": "many numbers: float64 is base64 of little-endian IEEE 754 doubles, row by row",
                "properties": {
                    "shape": {"type": "array", "items": {"type": "integer", "minimum": 0}},
                    "float64": {"type": "string", "contentEncoding": "base64"},
                },
                "required": ["shape", "float64"],
            }
            return {"anyOf": [listed, packed]}
        raise NotImplementedError(kind.__name__)

    return msgspec.json.schema(Project, schema_hook=of_array)


@dataclass(frozen=True, slots=True)
class Opened:
    """A project as it was read, and the fingerprint of the file it was read from."""

    project: Project
    fingerprint: str


def save(project: Project, folder: Path, expected: str | None = None) -> str:
    """Write a project into its folder (made if need be); footage paths become relative where they can.

    Parameters
    ----------
    project : Project
    folder : Path
    expected : str, optional
        Fingerprint of what is there, empty for nothing; if something else is there, nothing is written.

    Returns
    -------
    str
        The fingerprint of what was written.

    Raises
    ------
    ProjectChangedError
        If what is there is not what was expected.
    ProjectError
        If the folder cannot be written. Either way, what was there before is untouched.
    """
    path = folder / FILE_NAME
    try:
        folder.mkdir(parents=True, exist_ok=True)
        text = encoded(_with_paths(project, lambda path: _relative(path, folder)), is_readable=True)
        clear_left_overs(folder, [FILE_NAME])
        if expected is not None and path.exists() and _fingerprint(read_file(path, LARGEST_FILE)) != expected:
            raise ProjectChangedError(
                f"{folder.name} was changed on disk by someone else, since it was opened or saved here."
                if expected else f"There is a project in {folder} already."
            )  # fmt: skip
        write_whole(path, text)
    except OSError as error:
        raise ProjectError(
            f"{folder} could not be saved: {reason(error, folder)}. The project is still open; save it somewhere else."
        ) from error
    return _fingerprint(text)


def _fingerprint(text: bytes) -> str:
    return hashlib.blake2b(text, digest_size=16).hexdigest()


def load(folder: Path) -> Project:
    """Read a project; see `opened`."""
    return opened(folder).project


def opened(folder: Path) -> Opened:
    """Read a project.

    Parameters
    ----------
    folder : Path
        The project's folder, or the `project.json` in it.

    Raises
    ------
    ProjectError
        If there is no readable project of a version we know.
    """
    folder = folder_of(folder)
    try:
        text = read_file(folder / FILE_NAME, LARGEST_FILE)
    except (OSError, ValueError) as error:
        words = reason(error, folder) if isinstance(error, OSError) else str(error)
        raise ProjectError(f"{folder} could not be opened: {words}.") from error
    try:
        plain = decoded(text)
    except ValueError as error:
        raise ProjectError(f"{folder} could not be opened: {FILE_NAME} {error}.") from error
    try:
        project = from_plain(plain)
    except ProjectError as error:
        raise ProjectError(f"{folder} could not be opened: {error}.") from error
    return Opened(_with_paths(project, lambda path: absolute(path, folder)), _fingerprint(text))


def absolute(path: str, folder: Path) -> str:
    """Return a path of a project in a folder as it is without that; empty stays empty."""
    return os.path.normpath(folder.absolute() / path) if path else path


def _relative(path: str, folder: Path) -> str:
    """Return the path from the folder if both hang on one tree below the root, else the absolute path."""
    if not path:
        return path
    absolute = Path(path).absolute()
    shared = os.path.commonpath([absolute, folder.absolute()])
    return os.path.relpath(absolute, folder.absolute()) if shared != os.sep else str(absolute)


def _with_paths(project: Project, change: Callable[[str], str]) -> Project:
    def of_shot(shot: Shot) -> Shot:
        return replace(
            shot,
            footage=replace(shot.footage, path=change(shot.footage.path)),
            clean_plates=tuple(of_plate(plate) for plate in shot.clean_plates),
            mattes=tuple(replace(one, matte=of_matte(one.matte)) for one in shot.mattes),
            fixes=tuple(
                replace(
                    fix,
                    cover=of_matte(fix.cover),
                    hold_outs=of_matte(fix.hold_outs),
                    light_area=of_matte(fix.light_area),
                    fill=of_fill(fix.fill),
                )
                for fix in shot.fixes
            ),
        )

    def of_fill(fill: Fill) -> Fill:
        if isinstance(fill, Texture):
            return replace(fill, guides=of_matte(fill.guides), take_from=of_matte(fill.take_from))
        if isinstance(fill, Placed) and fill.footage is not None:
            return replace(fill, footage=replace(fill.footage, path=change(fill.footage.path)))
        return fill

    def of_plate(plate: CleanPlate) -> CleanPlate:
        base = plate.base
        return replace(plate, base=replace(base, path=change(base.path))) if isinstance(base, FromPicture) else plate

    def of_matte(matte: Matte) -> Matte:
        if not any(isinstance(part.source, FromFile) for part in matte.parts):
            return matte
        return replace(matte, parts=tuple(of_part(part) for part in matte.parts))

    def of_part(part: MattePart) -> MattePart:
        source = part.source
        return replace(part, source=replace(source, path=change(source.path))) if isinstance(source, FromFile) else part

    return replace(project, shots=tuple(of_shot(shot) for shot in project.shots))
