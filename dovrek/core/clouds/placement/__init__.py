"""Heaps in their places: dealt once, standing by cover and life. Knows shapes, and no light."""
