"""The paper theatre's shots, by name: how each is drawn and begun."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from gommage.core.document import Footage, Project, Shot
from gommage.demo.backstage import backstage_at, make_backstage
from gommage.demo.crosses import crosses_at, make_crosses
from gommage.demo.footlights import footlights_at, make_footlights, make_turned_footlights, turned_footlights_at
from gommage.demo.moth import make_moth, moth_at
from gommage.demo.passer_by import make_passer_by, passer_by_at
from gommage.demo.reel import make_reel, reel_at
from gommage.demo.shot import demo_at, make_demo
from gommage.demo.sign import make_sign, sign_at
from gommage.demo.stage_hand import make_stage_hand, stage_hand_at
from gommage.demo.strings import make_strings, strings_at

__all__ = ["SHOTS", "TheatreShot"]


@dataclass(frozen=True, slots=True)
class TheatreShot:
    """A shot of the paper theatre.

    Attributes
    ----------
    name : str
    at : callable
        From a folder to the shot as it is, or will be, there.
    make : callable
        Draws it into a folder; see `gommage.demo.make_demo`.
    """

    name: str
    at: Callable[[Path], Any]
    make: Callable[..., Any]

    def project(self, root: Path) -> Project:
        """Return a project with the untouched shot."""
        footage: Footage = self.at(root).footage
        return Project.of(Shot(id="theatre", name=f"Paper theatre, {self.name}", footage=footage))


SHOTS = {
    "label": TheatreShot("label", demo_at, make_demo),
    "crosses": TheatreShot("crosses", crosses_at, make_crosses),
    "old reel": TheatreShot("old reel", reel_at, make_reel),
    "stage hand": TheatreShot("stage hand", stage_hand_at, make_stage_hand),
    "passer-by": TheatreShot("passer-by", passer_by_at, make_passer_by),
    "moth on a rod": TheatreShot("moth on a rod", moth_at, make_moth),
    "strings": TheatreShot("strings", strings_at, make_strings),
    "sign on brick": TheatreShot("sign on brick", sign_at, make_sign),
    "backstage": TheatreShot("backstage", backstage_at, make_backstage),
    "footlights": TheatreShot("footlights", footlights_at, make_footlights),
    "footlights turned": TheatreShot("footlights turned", turned_footlights_at, make_turned_footlights),
}
