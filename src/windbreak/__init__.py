"""Windbreak: from an announced release to a verified update, with reasons."""

__version__ = "0.1.0"
