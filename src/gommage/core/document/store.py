"""Projects on disk: a folder `NAME.gommage/` with a readable `project.json`, written atomically."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from gommage.core.document.arrays import Array, decode_array, encode_array
from gommage.core.document.records import SCHEMA_VERSION, Project, Shot
from gommage.errors import ProjectError

__all__ = ["FOLDER_SUFFIX", "from_plain", "json_schema", "load", "save", "to_plain", "write_atomically"]

FOLDER_SUFFIX = ".gommage"
FILE_NAME = "project.json"


def _to_version_2(plain: dict[str, Any]) -> dict[str, Any]:
    """Surfaces were planes of one area; a slip was one number a frame, without a reason."""
    for shot in plain["shots"]:
        for surface in shot.get("surfaces", ()):
            surface.pop("type", None)
            areas = [{"shape": surface.pop("area")}]
            surface["how"] = {"type": "plane", "areas": areas, "motion": surface.pop("motion", "perspective")}
            track = surface.get("track")
            if track is not None:
                slips = track.pop("slip_px")
                track["corner_slip_px"] = [[slip] * 4 for slip in slips]
                track["reasons"] = [""] * len(slips)
    return {**plain, "version": 2}


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: _to_version_2}
"""One step a version: `UPGRADES[n]` takes a project of version n to n + 1. Old projects are read for ever."""


def to_plain(record: object) -> Any:
    """Return dicts, lists, numbers and strings for a record."""
    return msgspec.to_builtins(record, enc_hook=encode_array)


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
        return msgspec.convert(plain, Project, dec_hook=decode_array)
    except (msgspec.ValidationError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise ProjectError(f"its contents are damaged: {error}") from error


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of `project.json`."""

    def of_array(kind: type) -> dict[str, Any]:
        if kind is Array:
            return {"type": "array", "description": "numbers, or nested lists of numbers of equal length"}
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
        plain = to_plain(_with_paths(project, lambda path: _relative(path, folder)))
        text = json.dumps(plain, indent=1, ensure_ascii=False)
        write_atomically(folder / FILE_NAME, text.encode())
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
    folder = folder.parent if folder.name == FILE_NAME else folder
    try:
        text = (folder / FILE_NAME).read_bytes()
    except OSError as error:
        raise ProjectError(f"{folder} could not be opened: {error.strerror or error}.") from error
    try:
        plain = json.loads(text)
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
        plates = tuple(replace(plate, picture=change(plate.picture)) for plate in shot.clean_plates)
        return replace(shot, footage=replace(shot.footage, path=change(shot.footage.path)), clean_plates=plates)

    return replace(project, shots=tuple(of_shot(shot) for shot in project.shots))
