"""The frame strip and its lanes."""
