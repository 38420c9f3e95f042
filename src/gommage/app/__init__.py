"""The window: Qt Widgets, thin; shows the document, calls edits, asks the engine."""
