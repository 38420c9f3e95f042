"""Gommage: removes rigs, wires, markers, logos and people from moving shots."""

__version__ = "0.1.0"
