"""The guide: how-tos, and every control from its own declaration."""
