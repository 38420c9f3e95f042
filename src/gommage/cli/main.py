"""`gommage`: opens the window, or does without one."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
import fileseq

from gommage import __version__
from gommage.cli.benches import bench
from gommage.cli.words import fail
from gommage.core.document import Drawn, PlaneFollow, PointsFollow, Shot, Surface, edits, placement, store
from gommage.core.engine import Engine, MatteTarget, RenderTarget, followed, render, render_in_processes, write_mattes
from gommage.core.follow import read_track, write_track
from gommage.core.picture import probe
from gommage.core.picture.colour import configuration_fault
from gommage.core.picture.writing import STILL_FORMATS
from gommage.errors import GommageError

__all__ = ["main"]

NO_DISPLAY = (
    "There is no display to show the window on. On a machine without a monitor, install Xvfb "
    "(sudo apt-get install xvfb xauth) and type: xvfb-run gommage demo. Rendering and checking need no display: "
    "see gommage --help."
)


class Sentences(click.Group):
    """Turns our errors into one sentence on the terminal."""

    def invoke(self, ctx: click.Context) -> object:
        try:
            return super().invoke(ctx)
        except GommageError as error:
            fail(str(error))


def _load_shot(project: Path, shot_name: str) -> tuple[store.Opened, Shot]:
    loaded = store.opened(project)
    fault = configuration_fault()
    if fault:
        click.echo(f"gommage: {fault}", err=True)
    shots = [shot for shot in loaded.project.shots if not shot_name or shot.name == shot_name or shot.id == shot_name]
    if not shots:
        names = ", ".join(shot.name for shot in loaded.project.shots) or "none"
        fail(f"there is no shot {shot_name!r} in {project}; there is: {names}")
    return loaded, shots[0]


def _parse_frames(text: str, shot: Shot) -> list[int]:
    """Return the frames of a text such as 1001-1010,1020; empty means all."""
    if not text:
        return list(shot.footage.frames)
    try:
        frames = [int(frame) for frame in fileseq.FrameSet(text)]
    except (fileseq.ParseException, ValueError):
        fail(f"frames are written like 1001-1010,1020; got {text!r}")
    whole = shot.footage.frames
    outside = [frame for frame in frames if frame not in whole]
    if outside or not frames:
        fail(f"frame {outside[0] if outside else text} is outside the shot ({whole.first}–{whole.last})")
    return frames


@click.group(cls=Sentences, invoke_without_command=True)
@click.version_option(__version__)
@click.pass_context
def main(context: click.Context) -> None:
    """Remove rigs, wires, markers, logos and people from moving shots. Without a command: the window."""
    if context.invoked_subcommand is None:
        sys.exit(_show())


def _show(*, folder: Path | None = None, footage: Path | None = None, is_demo: bool = False) -> int:
    from gommage.app.start import can_show, start  # the command line must work where Qt cannot

    if not can_show():
        fail(NO_DISPLAY)
    return start(folder=folder, footage=footage, is_demo=is_demo)


@main.command("open")
@click.argument("path", type=click.Path(path_type=Path))
def open_(path: Path) -> None:
    """Open a project, or footage, in the window."""
    is_project = path.suffix == store.FOLDER_SUFFIX or path.name == store.FILE_NAME
    sys.exit(_show(folder=path) if is_project else _show(footage=path))


@main.command()
def demo() -> None:
    """Open the window on the paper theatre (drawn on first use)."""
    sys.exit(_show(is_demo=True))


@main.command()
@click.argument("path", type=click.Path(path_type=Path), required=False)
@click.option("--system", is_flag=True, help="Versions of everything, for a report.")
def info(path: Path | None, *, system: bool) -> None:
    """Say what a project or footage holds."""
    if system or path is None:
        _system()
    elif path.suffix == store.FOLDER_SUFFIX or path.name == store.FILE_NAME:
        for shot in store.load(path).shots:
            _describe(shot)
    else:
        report = probe(path)
        footage = report.footage
        click.echo(f"{footage.path}")
        click.echo(f"frames {footage.frames.first}–{footage.frames.last}, {len(footage.missing)} missing")
        click.echo(
            f"{footage.width} x {footage.height}, {report.pixel_type}, {float(footage.frames_per_second):g} frames/s"
        )
        click.echo(f"colour space {footage.colour_space}, alpha {'yes' if report.has_alpha else 'no'}")
        for note in report.notes:
            click.echo(note)


def _describe(shot: Shot) -> None:
    footage = shot.footage
    click.echo(
        f"{shot.name}: {footage.path}, {footage.frames.first}–{footage.frames.last}, {footage.width} x {footage.height}"
    )
    for surface in shot.surfaces:
        _describe_surface(shot, surface)
    for plate in shot.clean_plates:
        click.echo(f"  clean plate {plate.name}: home frame {plate.home_frame}, {len(plate.painting.strokes)} strokes")
    for fix in shot.fixes:
        click.echo(f"  fix {fix.name}: {'on' if fix.is_on else 'off'}")


def _describe_surface(shot: Shot, surface: Surface) -> None:
    placed = placement(shot, surface)
    state = "not followed"
    if placed is not None:
        state = f"followed {placed.frames.first}–{placed.frames.last}, slip {placed.slip_px.max():.2f} px at most"
    pins = f", {len(surface.pins)} pinned" if surface.pins else ""
    click.echo(f"  surface {surface.name}: {state}{pins}")


def _system() -> None:
    import platform
    from importlib.metadata import version

    click.echo(f"gommage {__version__}, Python {platform.python_version()}, {platform.platform()}")
    for name in ("numpy", "scipy", "numba", "opencv-python-headless", "openimageio", "opencolorio", "av", "msgspec",
                 "pyside6-essentials"):  # fmt: skip
        click.echo(f"{name} {version(name)}")


@main.command("render")
@click.argument("project", type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="A folder, or a .mov, .mkv or .mp4 file.")
@click.option("--frames", default="", help="Such as 1001-1010,1020; all if left out.")
@click.option(
    "--format",
    "kind",
    default="",
    type=click.Choice(["", *STILL_FORMATS]),
    help="Like the plate if left out.",
)
@click.option("--shot", "shot_name", default="", help="Name of the shot; the first if left out.")
@click.option("--processes", default=1, show_default=True, help="Stills only.")
@click.option("--held-still", default="", help="Name of a surface to hold still over all frames.")
def render_(project: Path, out: Path, frames: str, kind: str, shot_name: str, processes: int, held_still: str) -> None:
    """Write the cleaned frames of a project."""
    _, shot = _load_shot(project, shot_name)
    target = RenderTarget(out, kind, held_still=_surface(shot, held_still).id if held_still else "")
    wanted = _parse_frames(frames, shot)

    def progress(done: int, total: int) -> None:
        click.echo(f"\r{done} of {total}", err=True, nl=done == total)

    if processes > 1 and not target.is_movie:
        report = render_in_processes(project, shot, wanted, target, processes, progress)
    else:
        report = render(Engine(), shot, wanted, target, progress)
    for _, words in report.left_out:
        click.echo(f"left out: {words}", err=True)
    click.echo(f"{len(report.written)} written to {out}")
    if report.left_out:
        sys.exit(2)


@main.command("matte")
@click.argument("project", type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="A file such as mattes/label.exr.")
@click.option("--fix", "fix_name", default="", help="Name of the fix; all fixes together if left out.")
@click.option("--part", "part_names", multiple=True, help="Name of a shape of the fix; may be given several times.")
@click.option("--frames", default="", help="Such as 1001-1010; all if left out.")
@click.option("--format", "kind", default="exr-half", show_default=True, type=click.Choice(list(STILL_FORMATS)))
@click.option("--shot", "shot_name", default="", help="Name of the shot; the first if left out.")
def matte_(
    project: Path, out: Path, fix_name: str, part_names: tuple[str, ...], frames: str, kind: str, shot_name: str
) -> None:
    """Write the matte of a fix, of some of its shapes, or of all fixes, as numbered pictures with their softness."""
    _, shot = _load_shot(project, shot_name)
    fix = _named(shot.fixes, fix_name, "fix", shot) if fix_name else None
    if part_names and fix is None:
        fail("shapes are those of a fix; name it with --fix.")
    parts = (*fix.cover.parts, *fix.hold_outs.parts) if fix is not None else ()
    shapes = [part.source.shape for part in parts if isinstance(part.source, Drawn)]
    part_ids = tuple(_named(shapes, name, "shape", shot).id for name in part_names)
    chosen = tuple(part.id for part in parts if isinstance(part.source, Drawn) and part.source.shape.id in part_ids)
    target = MatteTarget(out.parent, out.stem, kind)
    written = write_mattes(Engine(), shot, target, _parse_frames(frames, shot), fix, chosen)
    click.echo(f"{len(written)} written to {out.parent}")


def _named(items: Sequence[Any], name: str, kind: str, shot: Shot) -> Any:
    found = [one for one in items if name in (one.name, one.id)]
    if not found:
        names = ", ".join(one.name for one in items if one.name) or "none"
        fail(f"there is no {kind} {name!r} in {shot.name}; there is: {names}")
    return found[0]


def _surface(shot: Shot, name: str) -> Surface:
    found: Surface = _named(shot.surfaces, name, "surface", shot)
    return found


@main.command("follow")
@click.argument("project", type=click.Path(path_type=Path))
@click.option("--shot", "shot_name", default="", help="Name of the shot; the first if left out.")
@click.option("--surface", "name", default="", help="Name of the surface; all that are followed if left out.")
def follow_(project: Path, shot_name: str, name: str) -> None:
    """Follow surfaces of a project anew, from their home frames, and save it."""
    loaded, shot = _load_shot(project, shot_name)
    engine, changed = Engine(), loaded.project
    for surface in [_surface(shot, name)] if name else shot.surfaces:
        if not isinstance(surface.how, PlaneFollow | PointsFollow):
            continue
        changed = followed(engine, changed, shot.id, surface.id)
        _describe_surface(changed.shot(shot.id), changed.shot(shot.id).surface(surface.id))
    store.save(changed, store.folder_of(project), loaded.fingerprint)


@main.command("solve")
@click.argument("project", type=click.Path(path_type=Path))
@click.option("--shot", "shot_name", default="", help="Name of the shot; the first if left out.")
@click.option("--lens", type=click.Path(path_type=Path), help="A lens that was written, where it is known.")
@click.option("--polish", is_flag=True, help="Polish camera and planes on the pictures, if there are planes.")
def solve_(project: Path, shot_name: str, lens: Path | None, polish: bool) -> None:
    """Solve a shot's camera, lay its scene planes into the new scene, and save it."""
    from gommage.core.engine import polish_planes, solve_camera, told_of_camera
    from gommage.core.follow.scene import read_lens

    loaded, shot = _load_shot(project, shot_name)
    engine, width = Engine(), shot.footage.width
    found = solve_camera(engine, shot, lens=None if lens is None else read_lens(lens, width))
    changed = found.edit(loaded.project, shot.id)
    if polish and found.planes:
        better, before, after = polish_planes(engine, changed.shot(shot.id))
        changed = better.edit(changed, shot.id)
        click.echo(f"polished: {before:.3f} px off before, {after:.3f} px now")
    solved = changed.shot(shot.id).camera
    assert solved is not None
    for line in told_of_camera(solved, shot.footage.bounds):
        click.echo(line)
    store.save(changed, store.folder_of(project), loaded.fingerprint)


@main.command("write-track")
@click.argument("project", type=click.Path(path_type=Path))
@click.argument("surface")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--shot", "shot_name", default="", help="Name of the shot; the first if left out.")
def write_track_(project: Path, surface: str, file: Path, shot_name: str) -> None:
    """Write where a surface is on every frame to a .csv or .json file."""
    _, shot = _load_shot(project, shot_name)
    wanted = _surface(shot, surface)
    placed = placement(shot, wanted)
    if placed is None:
        fail(f"{wanted.name} has not been followed; there is nothing to write.")
    write_track(file, wanted, placed, (shot.footage.width, shot.footage.height))
    click.echo(f"{len(placed.frames)} frames of {wanted.name} written to {file}")


@main.command("read-track")
@click.argument("project", type=click.Path(path_type=Path))
@click.argument("surface")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--shot", "shot_name", default="", help="Name of the shot; the first if left out.")
def read_track_(project: Path, surface: str, file: Path, shot_name: str) -> None:
    """Give a surface of a project the track in a .csv or .json file, and save it."""
    loaded, shot = _load_shot(project, shot_name)
    wanted = _surface(shot, surface)
    track = read_track(file, wanted, shot.footage.frames)
    changed = edits.change_surface(loaded.project, shot.id, wanted.id, track=track)
    store.save(changed, store.folder_of(project), loaded.fingerprint)
    click.echo(f"{wanted.name} is where {file} has it, on {track.frames.first}–{track.frames.last}")


@main.command("check")
@click.argument("project", type=click.Path(path_type=Path))
@click.option("--shot", "shot_name", default="", help="Name of the shot; the first if left out.")
@click.option("--json", "as_json", is_flag=True, help="Figures of every frame as JSON.")
def check_(project: Path, shot_name: str, *, as_json: bool) -> None:
    """Measure seam and flicker of all fixes."""
    _, shot = _load_shot(project, shot_name)
    engine = Engine()
    out = []
    for fix in shot.fixes:
        figures = engine.check(shot, fix)
        rows = [
            {
                "frame": f.frame,
                "seam_percent": round(f.seam_percent, 3),
                "flicker_percent": round(f.flicker_percent, 3),
            }
            for f in figures
        ]
        out.append({"fix": fix.name, "frames": rows})
        if not as_json:
            worst = max(figures, key=lambda one: one.worst, default=None)
            words = f"worst is frame {worst.frame} with {worst.worst:.2f} %" if worst else "lies on no frame"
            click.echo(f"{fix.name}: {words}")
    if as_json:
        click.echo(json.dumps({"shot": shot.name, "fixes": out}, indent=1))


@main.command("schema")
def schema() -> None:
    """Print the JSON Schema of project.json."""
    click.echo(json.dumps(store.json_schema(), indent=1))


main.add_command(bench)

if __name__ == "__main__":
    main()
