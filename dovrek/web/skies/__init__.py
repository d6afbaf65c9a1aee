"""Skies: the gallery, new skies, import and export."""
