"""Dovrek composes whole procedural skies and prints photorealistic backdrops."""

__version__ = "0.1.0"
