"""Lists: models over the document, cards and lines."""
