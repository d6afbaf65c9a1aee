"""Prints: orders, the queue, finished files."""
