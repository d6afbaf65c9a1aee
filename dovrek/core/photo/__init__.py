"""Photographs: what they show, how like a sky is, and the sky that Suggest proposes."""
