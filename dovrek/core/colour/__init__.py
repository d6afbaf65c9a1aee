"""Colour: wavelengths to XYZ, sRGB, white balance, tints, and the film that develops a picture."""
