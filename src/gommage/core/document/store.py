"""Projects on disk: a folder `NAME.gommage/` with a readable `project.json`, written atomically."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from gommage.core.document.arrays import Array, decode_array, encode_array
from gommage.core.document.checks import dangling, unsupported
from gommage.core.document.records import SCHEMA_VERSION, CleanPlate, FromPicture, Project, Shot
from gommage.core.document.upgrades import UPGRADES
from gommage.errors import ProjectError

__all__ = [
    "FILE_NAME",
    "FOLDER_SUFFIX",
    "decoded",
    "encoded",
    "folder_of",
    "from_plain",
    "json_schema",
    "load",
    "save",
    "to_plain",
    "write_atomically",
]

FOLDER_SUFFIX = ".gommage"
FILE_NAME = "project.json"


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
    try:
        return msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as error:
        raise ValueError(str(error)) from error


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
    try:
        while version < SCHEMA_VERSION:
            plain = UPGRADES[version](plain)
            version += 1
        project = msgspec.convert(plain, Project, dec_hook=decode_array)
    except (msgspec.ValidationError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise ProjectError(f"its contents are damaged: {error}") from error
    for shot in project.shots:
        fault = dangling(shot) or unsupported(shot)
        if fault:
            raise ProjectError(f"in the shot {shot.name}: {fault.rstrip('.')}")
    return project


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


def write_atomically(path: Path, data: bytes) -> None:
    """Write a file so that, whatever happens, either the old or the new one is there whole.

    Raises
    ------
    OSError
        From the file system; the old file is then untouched.
    """
    temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with temporary.open("wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
    except OSError:
        temporary.unlink(missing_ok=True)
        raise
    directory = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(directory)
    finally:
        os.close(directory)


def save(project: Project, folder: Path) -> None:
    """Write a project into its folder (made if need be); footage paths become relative where they can.

    Raises
    ------
    ProjectError
        If the folder cannot be written; what was there before is untouched.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        text = encoded(_with_paths(project, lambda path: _relative(path, folder)), is_readable=True)
        write_atomically(folder / FILE_NAME, text)
    except OSError as error:
        reason = error.strerror or str(error)
        raise ProjectError(
            f"{folder} could not be saved: {reason}. The project is still open; save it somewhere else."
        ) from error


def load(folder: Path) -> Project:
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
        text = (folder / FILE_NAME).read_bytes()
    except OSError as error:
        raise ProjectError(f"{folder} could not be opened: {error.strerror or error}.") from error
    try:
        plain = decoded(text)
    except ValueError as error:
        raise ProjectError(f"{folder} could not be opened: {FILE_NAME} is cut off or not JSON ({error}).") from error
    try:
        project = from_plain(plain)
    except ProjectError as error:
        raise ProjectError(f"{folder} could not be opened: {error}.") from error
    return _with_paths(project, lambda path: str((folder.absolute() / path).resolve()) if path else path)


def _relative(path: str, folder: Path) -> str:
    """Return the path from the folder if both hang on one tree below the root, else the absolute path."""
    if not path:
        return path
    absolute = Path(path).absolute()
    shared = os.path.commonpath([absolute, folder.absolute()])
    return os.path.relpath(absolute, folder.absolute()) if shared != os.sep else str(absolute)


def _with_paths(project: Project, change: Callable[[str], str]) -> Project:
    def of_shot(shot: Shot) -> Shot:
        plates = tuple(of_plate(plate) for plate in shot.clean_plates)
        return replace(shot, footage=replace(shot.footage, path=change(shot.footage.path)), clean_plates=plates)

    def of_plate(plate: CleanPlate) -> CleanPlate:
        base = plate.base
        return replace(plate, base=replace(base, path=change(base.path))) if isinstance(base, FromPicture) else plate

    return replace(project, shots=tuple(of_shot(shot) for shot in project.shots))
