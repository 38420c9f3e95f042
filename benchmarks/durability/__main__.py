"""Kill it, fill its disks, damage what it reads, use it for long, and write what came of it.

``python -m benchmarks.durability [--kills N] [--projects N] [--journals N] [--pictures N] [--soak MINUTES]
[--write docs/reliability.md]``. A part whose number is 0 is left out, and its lines in the file stay as they are.
"""

from __future__ import annotations

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

from benchmarks.durability.disks import can_mount, disk_faults
from benchmarks.durability.inputs import INPUTS, given
from benchmarks.durability.kills import Kills, aimed_kills, random_kills
from benchmarks.durability.subjects import subject
from benchmarks.durability.window_kills import window_kills

LONGEST_S = 60.0
"""So long one damaged thing may take before its process is ended."""


@dataclass
class Damage:
    """How a window took damaged things."""

    outcomes: Counter[str] = field(default_factory=Counter)
    longest_s: float = 0.0
    peak_mb: int = 0
    faults: list[str] = field(default_factory=list)

    def add(self, line: dict[str, object]) -> None:
        """Count one."""
        outcome = str(line["outcome"])
        self.outcomes[outcome] += 1
        self.longest_s = max(self.longest_s, float(line["seconds"]))
        self.peak_mb = max(self.peak_mb, int(line["peak_mb"]))
        if outcome not in ("opened", "refused"):
            self.faults.append(f"{line['number']}: {outcome}: {str(line['words'])[-400:]}")


def damaged(kind: str, count: int, folder: Path) -> Damage:
    """Give a window so many damaged things; when its process ends early, the next goes on behind."""
    found, first = Damage(), 0
    while first < count:
        begun = first
        for line in _lines(kind, first, count - first, folder):
            if "begun" in line:
                begun = int(line["begun"])
            else:
                found.add(line)
                begun = int(line["number"]) + 1
        if begun < count and not (found.faults and found.faults[-1].startswith(f"{begun - 1}: hang")):
            found.outcomes["ended"] += 1
            found.faults.append(f"{begun}: the process ended")
            begun += 1
        first = begun
        print(f"{kind}: {first} of {count}, {dict(found.outcomes)}", file=sys.stderr)
    return found


def _lines(kind: str, first: int, count: int, folder: Path) -> Iterator[dict[str, object]]:
    command = [sys.executable, "-m", "benchmarks.durability.window", kind, str(first), str(count), str(folder)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as process:
        assert process.stdout is not None
        for text in process.stdout:
            if text.startswith("{"):
                yield json.loads(text)


def soaked(minutes: float, folder: Path) -> tuple[list[dict[str, float]], dict[str, object]]:
    """Use a window for so long; return what was held now and then, and what was done."""
    run = subprocess.run(
        [sys.executable, "-m", "benchmarks.durability.soak", str(minutes), str(folder)], stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL, text=True, check=False,
    )  # fmt: skip
    return told_of_soak(run.stdout)


def told_of_soak(text: str) -> tuple[list[dict[str, float]], dict[str, object]]:
    """Return samples and summary from what a soak printed."""
    lines = [json.loads(line) for line in text.splitlines() if line.startswith("{")]
    return [line for line in lines if "seconds" in line], next((line for line in lines if "done" in line), {})


# -- what is written --------------------------------------------------------------------------------------------


def of_kills(name: str, kills: Kills) -> list[str]:
    """Return the lines about kills."""
    lines = [f"| {name} | {kills.count} | {kills.edits} | {len(kills.faults)} |"]
    return lines + [f"| | | | {fault} |" for fault in kills.faults[:10]]


def of_damage(name: str, damage: Damage) -> list[str]:
    """Return the lines about damaged things."""
    outcomes, total = damage.outcomes, sum(damage.outcomes.values())
    wrong = total - outcomes["opened"] - outcomes["refused"]
    row = f"| {name} | {total} | {outcomes['opened']} | {outcomes['refused']} | {wrong} | {damage.longest_s:.2f} s |"
    return [f"{row} {damage.peak_mb} MB |"] + [f"| | | | | {fault} | | |" for fault in damage.faults[:10]]


def of_inputs(folder: Path) -> list[str]:
    """Give every special input; return the lines about them."""
    lines = ["| what is opened | what comes of it | after | memory |", "|---|---|---|---|"]
    for name in (*INPUTS, "large_picture"):
        found = given(name, folder / name)
        what = (INPUTS[name].__doc__ or "").removeprefix("Give ").rstrip(".") if name in INPUTS else (
            "a picture of 20 000 x 20 000, stopped while it is read")  # fmt: skip
        words = str(found["words"]).replace(str(folder / name), "…").replace("|", "/")
        grown = f"+{found['grown_mb']} MB" if "grown_mb" in found else ""
        lines.append(f"| {what} | {found['outcome']}{': ' + words if words else ''} | {found['seconds']} s | {grown} |")
    return lines


def of_disks(folder: Path) -> list[str]:
    """Try every fault of a disk; return the lines about them."""
    if not can_mount(folder / "mount"):
        return ["Not tried: no disk may be mounted here."]
    lines = ["| what was tried | what went wrong |", "|---|---|"]
    return lines + [f"| {what} | {wrong or 'nothing'} |" for what, wrong in disk_faults(folder)]


def of_soak(samples: list[dict[str, float]], summary: dict[str, object]) -> list[str]:
    """Return the lines about long use: what was held in each sixth of it."""
    lines = [
        "| minutes | memory, median | memory, most | threads | handles | things done |",
        "|---|---|---|---|---|---|",
    ]
    length = max(len(samples) // 6, 1)
    for start in range(0, length * 6, length):
        part = samples[start : start + length]
        if not part:
            continue
        held = [line["resident_mb"] for line in part]
        threads, handles = ({int(line[name]) for line in part} for name in ("threads", "handles"))
        lines.append(
            f"| {part[0]['seconds'] / 60:.0f} to {part[-1]['seconds'] / 60:.0f} | {statistics.median(held):.0f} MB "
            f"| {max(held)} MB | {_span(threads)} | {_span(handles)} | {part[-1]['acts']} |"
        )
    done = summary.get("done", {})
    faults = summary.get("faults", [])
    assert isinstance(done, dict)
    words = ", ".join(f"{name.replace('_', ' ')} {count}" for name, count in sorted(done.items()))
    return [
        *lines,
        "",
        f"Done: {words}. Errors that nobody expected: {len(faults) if isinstance(faults, list) else 0}.",
    ]


def _span(numbers: set[int]) -> str:
    return str(min(numbers)) if len(numbers) == 1 else f"{min(numbers)} to {max(numbers)}"


def put(path: Path, part: str, lines: list[str]) -> None:
    """Put lines into a file, between the marks of their part."""
    begin, end = f"<!-- {part} -->", f"<!-- end of {part} -->"
    head, _, rest = path.read_text().partition(begin)
    path.write_text(f"{head}{begin}\n{chr(10).join(lines)}\n{end}{rest.partition(end)[2]}")


def main() -> None:
    """Do what is asked for and print it, or write it."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    for name in ("kills", "projects", "journals", "pictures", "inputs", "disks"):
        parser.add_argument(f"--{name}", type=int, default=0)
    parser.add_argument("--soak", type=float, default=0.0, help="minutes")
    parser.add_argument("--at-once", type=int, default=2, help="kinds of damage")
    parser.add_argument("--write", type=Path)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        parts = dict(_parts(chosen, folder))
    for part, lines in parts.items():
        if chosen.write is not None:
            put(chosen.write, part, lines)
        print("\n".join(lines), end="\n\n")


def _parts(chosen: argparse.Namespace, folder: Path) -> Iterator[tuple[str, list[str]]]:
    began = time.monotonic()
    if chosen.kills:
        project, half, windows = subject(folder / "plate"), chosen.kills // 2, max(chosen.kills // 20, 1)
        lines = ["| kills | how many | edits told of | lost, doubled or unreadable |", "|---|---|---|---|"]
        lines += of_kills("at every call of the system in turn", aimed_kills(project, folder, half))
        lines += of_kills("at random moments", random_kills(project, folder, chosen.kills - half - windows))
        lines += of_kills("of the window, at random moments of work in it", window_kills(folder, windows))
        yield "kills", lines
    damages = [(kind, getattr(chosen, kind)) for kind in ("projects", "journals", "pictures")]
    if any(count for _, count in damages):
        lines = ["| damaged | how many | opened | refused in a sentence | else | longest | memory |"]
        lines.append("|---|---|---|---|---|---|---|")
        with ThreadPoolExecutor(chosen.at_once) as pool:  # they wait for processes of their own
            running = [(kind, pool.submit(damaged, kind, count, folder / kind)) for kind, count in damages if count]
            for kind, one in running:
                lines += of_damage(kind, one.result())
        yield "damage", lines
    if chosen.inputs:
        yield "inputs", of_inputs(folder)
    if chosen.disks:
        yield "disks", of_disks(folder)
    if chosen.soak:
        yield "soak", of_soak(*soaked(chosen.soak, folder / "soak"))
    print(f"{time.monotonic() - began:.0f} s", file=sys.stderr)


if __name__ == "__main__":
    main()
