"""Oklab (Ottosson 2020), a published opponent space: hues stay as lightness or colour change."""

from __future__ import annotations

from dovrek.core.compile.kernels import inner

HALVINGS = 10


@inner
def _root(value):
    """Cube root, with its sign."""
    return value ** (1.0 / 3.0) if value >= 0.0 else -((-value) ** (1.0 / 3.0))


@inner
def opponent(r, g, b):
    """Lightness and the two opponent values of linear RGB (IEC 61966-2-1 primaries)."""
    one = _root(0.4122214708 * r + 0.5363325363 * g + 0.0514459929 * b)
    two = _root(0.2119034982 * r + 0.6806995451 * g + 0.1073969566 * b)
    three = _root(0.0883024619 * r + 0.2817188376 * g + 0.6299787005 * b)
    return (0.2104542553 * one + 0.7936177850 * two - 0.0040720468 * three,
            1.9779984951 * one - 2.4285922050 * two + 0.4505937099 * three,
            0.0259040371 * one + 0.7827717662 * two - 0.8086757660 * three)


@inner
def from_opponent(lightness, a, b):
    """Linear RGB, outside 0 … 1 where the gamut is left."""
    one = (lightness + 0.3963377774 * a + 0.2158037573 * b) ** 3
    two = (lightness - 0.1055613458 * a - 0.0638541728 * b) ** 3
    three = (lightness - 0.0894841775 * a - 1.2914855480 * b) ** 3
    return (4.0767416621 * one - 3.3077115913 * two + 0.2309699292 * three,
            -1.2684380046 * one + 2.6097574011 * two - 0.3413193965 * three,
            -0.0041960863 * one - 0.7034186147 * two + 1.7076147010 * three)


@inner
def _inside(lightness, a, b):
    r, g, blue = from_opponent(lightness, a, b)
    return min(r, g, blue) >= -1e-6 and max(r, g, blue) <= 1.0 + 1e-6


@inner
def in_gamut(lightness, a, b):
    """Greatest share of a colour, at its hue and lightness, that 0 … 1 holds."""
    if _inside(lightness, a, b):
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        if _inside(lightness, middle * a, middle * b):
            low = middle
        else:
            high = middle
    return low
