"""Undo and redo: a list of labelled projects that share all that did not change."""

from __future__ import annotations

from dataclasses import dataclass

from gommage.core.document.records import Project

__all__ = ["History", "Step"]

STEPS_KEPT = 1000


@dataclass(frozen=True, slots=True)
class Step:
    """A project and the words for the edit that led to it."""

    label: str
    project: Project


@dataclass(frozen=True, slots=True)
class History:
    """All steps, and which one is the present. Every method returns a new history."""

    steps: tuple[Step, ...]
    index: int = 0

    @classmethod
    def of(cls, project: Project) -> History:
        """Return a history that begins with a project."""
        return cls((Step("Open", project),))

    @property
    def present(self) -> Project:
        """The project as it is now."""
        return self.steps[self.index].project

    @property
    def undo_label(self) -> str | None:
        """What undo would take back, or None."""
        return self.steps[self.index].label if self.index else None

    @property
    def redo_label(self) -> str | None:
        """What redo would do again, or None."""
        return self.steps[self.index + 1].label if self.index + 1 < len(self.steps) else None

    def push(self, label: str, project: Project) -> History:
        """Return the history after an edit; an edit that changed nothing makes no step."""
        if project is self.present:
            return self
        kept = self.steps[: self.index + 1][-STEPS_KEPT:]
        return History((*kept, Step(label, project)), len(kept))

    def undo(self) -> History:
        """Return the history one step back (itself at the beginning)."""
        return History(self.steps, self.index - 1) if self.index else self

    def redo(self) -> History:
        """Return the history one step on (itself at the end)."""
        return History(self.steps, self.index + 1) if self.index + 1 < len(self.steps) else self
