"""What an action is: a row of the table that menus, keys and buttons are made of."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["Action"]


@dataclass(frozen=True, slots=True)
class Action:
    """One thing that can be done.

    Attributes
    ----------
    id : str
        Also the name of the main window's method that does it.
    text : str
        In menus.
    keys : tuple of str
        Shortcuts, the first is shown.
    menu : str
        Which menu it stands in; with a stroke, which menu of that one.
    tip : str
        What it does, for the tooltip.
    needs : str
        What must be there: "", "shot", "surface", "track", "fix", "shape", "plate", "paint".
    is_of_picture : bool
        Whether its keys count only while the picture has the focus: keys that fields need for themselves.
    """

    id: str
    text: str
    keys: tuple[str, ...] = ()
    menu: str = ""
    tip: str = ""
    needs: str = ""
    is_checkable: bool = False
    icon: str = ""
    is_of_picture: bool = False
