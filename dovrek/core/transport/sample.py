"""What the march gives for a pixel: its channels."""

RED, GREEN, BLUE, ALPHA, DISTANCE = 0, 1, 2, 3, 4
OUT = 5
