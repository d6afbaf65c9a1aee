"""The sky as a light: beams of sun and moon, what falls on ground and walls, and a proof of both on
a few plain bodies.

Here belongs what takes a dome as given and lights something with it; nothing that makes one.
"""
