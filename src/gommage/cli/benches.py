"""`gommage bench`: what Gommage does with the paper theatre, judged against its known truth."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click
import platformdirs

from gommage.cli.words import fail
from gommage.core.disk import write_whole
from gommage.core.engine import Engine

if TYPE_CHECKING:
    from gommage.demo import DemoShot

__all__ = ["bench"]


@click.group(invoke_without_command=True)
@click.option(
    "--write",
    type=click.Path(path_type=Path),
    help="Put the figures into this Markdown file, between its marks.",
)
@click.pass_context
def bench(context: click.Context, write: Path | None) -> None:
    """Do the demo job and judge it against the truth."""
    if context.invoked_subcommand is not None:
        return
    from gommage.demo.accuracy import judge, markdown

    _show_table(markdown(*judge(_demo_shot())), write, "figures")


@bench.command("follow")
@click.option("--write", type=click.Path(path_type=Path), help="Put the figures into this Markdown file.")
@click.option("--pictures", type=click.Path(path_type=Path), help="A folder of photographs to try it on instead.")
def bench_follow(write: Path | None, pictures: Path | None) -> None:
    """Follow planes under known motions, each with one trouble, and judge them beside OpenCV's ECC."""
    from gommage.demo.trials import TRIALS, judged, trial_markdown, with_pictures

    trials = TRIALS if pictures is None else with_pictures(pictures)
    figures = []
    for trial in trials:
        click.echo(trial.name, err=True)
        figures.append(judged(trial))
    _show_table(trial_markdown(figures), write, "trials" if pictures is None else "trials on photographs")


@bench.command("fill")
@click.option("--write", type=click.Path(path_type=Path), help="Put the figures into this Markdown file.")
@click.option("--alone", is_flag=True, help="Leave out the simpler ways to the same end.")
def bench_fill(write: Path | None, alone: bool) -> None:
    """Fill the passer-by and the moth on a rod from other frames, and judge that beside an oracle and simpler ways."""
    from gommage.demo.fills import JOBS, fill_markdown, judged_fill
    from gommage.demo.rests import merged_figures, moth_rest_painted, rest_figures, rest_markdown

    root, engine, done = Path(platformdirs.user_cache_dir("gommage")), Engine(), {}
    for name, job in JOBS.items():
        click.echo(name, err=True)
        demo = job.make(root)
        done[name] = job.fill(engine, demo), demo
        figures = judged_fill(engine, *done[name], job.frames, others=not alone)
        _show_table(fill_markdown(figures), write, name)
    click.echo("what no frame shows", err=True)
    (passer, passer_demo), (moth, moth_demo) = done["passer-by"], done["moth on a rod"]
    painted = moth_rest_painted(engine, moth)
    rest = rest_figures(engine, painted, moth_demo, JOBS["moth on a rod"].frames)
    merged = merged_figures(engine, passer, "wall", passer_demo)
    _show_table(rest_markdown(rest, merged), write, "rest and merged")


@bench.command("here")
@click.option("--write", type=click.Path(path_type=Path), help="Put the figures into this Markdown file.")
@click.option("--shot", "only", help="One of the shots alone.")
def bench_here(write: Path | None, only: str | None) -> None:
    """Close strings, a sign, crosses and dirt from the frame itself, and judge that beside spreading."""
    from gommage.demo.fills import fill_markdown
    from gommage.demo.here import HERE, found_words, judged_here, line_words, slope_words

    root, engine = Path(platformdirs.user_cache_dir("gommage")), Engine()
    for name, job in HERE.items():
        if only not in (None, name):
            continue
        click.echo(name, err=True)
        demo = job.make(root)
        project = job.fill(engine, demo)
        table = fill_markdown(judged_here(engine, project, demo, job))
        words = line_words(project, demo) if name == "strings" else ""
        if name == "sign on brick":
            words = slope_words(engine, project, demo, job)
        if name in ("crosses", "crosses on a board", "old reel"):
            words = found_words(engine, project, demo)
        _show_table(f"{table}\n\n{words}" if words else table, write, name)


@bench.command("first")
@click.option("--write", type=click.Path(path_type=Path), help="Put the figures into this Markdown file.")
@click.option("--cover", "only", help="One of the covers alone.")
def bench_first(write: Path | None, only: str | None) -> None:
    """Ask what fresh covers should be filled from, and judge that beside every other way."""
    from gommage.demo.first import COVERS, first_markdown, judged_first

    figures = []
    for name in COVERS:
        if only in (None, name):
            click.echo(name, err=True)
            figures.append(judged_first(name, Path(platformdirs.user_cache_dir("gommage"))))
    _show_table(first_markdown(figures), write, "first proposals")


@bench.command("scene")
@click.option("--write", type=click.Path(path_type=Path), help="Put the figures into this Markdown file.")
def bench_scene(write: Path | None) -> None:
    """Solve the walk backstage, polish its planes, take both crates away, and judge all of it."""
    import tempfile

    from gommage.demo.backstage import make_backstage
    from gommage.demo.backstage_job import crates_filled, judged_crates, judged_scene, scene_markdown
    from gommage.demo.fills import fill_markdown

    demo, engine = make_backstage(Path(platformdirs.user_cache_dir("gommage"))), Engine()
    project, figures = judged_scene(engine, demo)
    parts = [scene_markdown(figures)]
    with tempfile.TemporaryDirectory() as folder:
        for name, found in judged_crates(engine, crates_filled(project, demo, Path(folder)), demo).items():
            parts += [f"{name}:", fill_markdown(found)]
    _show_table("\n\n".join(parts), write, "backstage")


@bench.command("panorama")
@click.option("--write", type=click.Path(path_type=Path), help="Put the figures into this Markdown file.")
def bench_panorama(write: Path | None) -> None:
    """Take the tripod out of both panoramas, in a view straight down, and judge what is written back."""
    from gommage.demo.footlights import make_footlights, make_turned_footlights
    from gommage.demo.footlights_job import WAYS, judged_panorama, panorama_markdown, tripod_view, turn_words

    root, figures, words = Path(platformdirs.user_cache_dir("gommage")), [], []
    for clip, make in (("standing", make_footlights), ("turned by hand", make_turned_footlights)):
        demo, engine = make(root), Engine()
        begun, view_id = tripod_view(engine, demo)
        words.append(turn_words(begun, demo))
        for name, way in WAYS.items():
            click.echo(f"{clip}, {name}", err=True)
            figures.append(judged_panorama(engine, way(begun, view_id, demo), demo, f"{clip}, {name}"))
    _show_table("\n\n".join([panorama_markdown(figures), *(one for one in words if one)]), write, "panoramas")


@bench.command("pieces")
@click.option("--write", type=click.Path(path_type=Path), help="Put the figures into this Markdown file.")
def bench_pieces(write: Path | None) -> None:
    """Let surfaces propose themselves round the things of five shots, and hold them against the true planes."""
    from gommage.demo.pieces import judged_pieces, pieces_markdown

    _show_table(pieces_markdown(judged_pieces(Path(platformdirs.user_cache_dir("gommage")))), write, "pieces")


def _show_table(table: str, write: Path | None, mark: str) -> None:
    """Print a table, and put it into a file between its marks if that is wanted."""
    click.echo(table)
    if write is None:
        return
    begin, end = f"<!-- {mark} -->", f"<!-- end of {mark} -->"
    text = write.read_text()
    if begin not in text or end not in text:
        fail(f"{write} has no marks {begin} and {end} to write between.")
    head, _, rest = text.partition(begin)
    write_whole(write, f"{head}{begin}\n{table}\n{end}{rest.partition(end)[2]}".encode())


def _demo_shot() -> DemoShot:
    from gommage.demo import make_demo  # loaded late: it costs the start of the program a second

    root = Path(platformdirs.user_cache_dir("gommage"))
    with click.progressbar(length=1000, label="Drawing the paper theatre (once)", file=sys.stderr) as bar:
        shown = 0

        def progress(share: float) -> None:
            nonlocal shown
            bar.update(round(share * 1000) - shown)
            shown = round(share * 1000)

        try:
            return make_demo(root, progress)
        except OSError as error:
            fail(f"the demo shot could not be written to {root}: {error.strerror}.")
