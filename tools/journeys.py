"""Write docs/journeys.md from what the recorded journeys noted: `make journeys` runs them first.

Usage: journeys.py FILE
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

NOTED = Path("build") / "journeys"
HEAD = """# Journeys

What the hand does in recorded journeys through the window, driven by real events: a press with its release, a drag, a
key, a typed field count one each. Written by `make journeys`, which runs the tests of these journeys and judges the
outcome by the truth of the paper theatre.
"""


def main(out: Path) -> None:
    """Write what was noted to a file."""
    parts = [HEAD]
    for path in sorted(NOTED.glob("*.json")):
        one = json.loads(path.read_text())
        parts.append(f"## {one['sentence']}: {one['count']} actions\n")
        parts.append("| action | times |\n|---|---|")
        counted: dict[str, int] = {}
        for words, times in one["actions"]:
            counted[words] = counted.get(words, 0) + times
        parts += [f"| {words} | {times} |" for words, times in counted.items()]
        if one["figures"]:
            head, *rows = one["figures"]
            parts.append(f"\n| {' | '.join(head)} |\n{'|---' * len(head)}|")
            parts += [f"| {' | '.join(row)} |" for row in rows]
        parts.append("")
    out.write_text("\n".join(parts))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
