"""What the commands say when they cannot go on."""

from __future__ import annotations

import sys
from typing import NoReturn

import click

__all__ = ["fail"]


def fail(words: str) -> NoReturn:
    """Say a sentence and end."""
    click.echo(f"gommage: {words}", err=True)
    sys.exit(1)
