"""Colours laid over a layer's light, for stylised skies."""

from __future__ import annotations

from pydantic import field_validator

from dovrek.sky.parameter import Group, choice, colour_of, number


class Wash(Group):
    strength: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Wash", label="Wash",
        help="How strongly the colours below are laid over this layer's light, for stylised "
        "skies. Brightness stays.",
    )
    lit: str = choice("#ffd9b0", group="Wash", label="Lit side", kind="colour",
                      help="Colour of what the sun lights.")
    body: str = choice("#c9cede", group="Wash", label="Body", kind="colour",
                       help="Colour of what the sky lights.")
    base: str = choice("#8e93a8", group="Wash", label="Base", kind="colour",
                       help="Colour of what the ground lights.")
    body_from: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Wash", label="Body from",
        help="Share of the thickness below which all has the base's colour. 0: light alone tells.")
    lit_from: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Wash", label="Lit side from",
        help="Share of the thickness below which sunlight has the body's colour. 0: all the sun "
        "lights has the lit side's.")
    soft: float = number(
        0.3, low=0.0, high=1.0, step=0.05, unit="", group="Wash", label="Soft tones",
        help="How softly tones and blotches meet: 0 as if cut out, 1 running into each other.")
    edge: float = number(
        0.0, low=-1.0, high=1.0, step=0.05, unit="", group="Wash", label="Thin edges",
        help="Thin edges darker (below 0) or brighter (above 0) than their light makes them, in "
        "the colour below.")
    edge_tint: str = choice("#fff4e0", group="Wash", label="Edge tint", kind="colour",
                            help="Colour of thin edges.")
    blotches: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Wash", label="Blotches",
        help="Share of the shaded parts that a second tint takes, in blotches.")
    blotch_tint: str = choice("#8a7fb8", group="Wash", label="Blotch tint", kind="colour",
                              help="Colour of the blotches.")
    blotch_size_m: float = number(
        900.0, low=20.0, high=20000.0, step=50.0, unit="m", group="Wash", label="Blotch size",
        scale="log", help="Distance from one blotch to the next.")
    blotch_seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Wash", label="Blotch seed",
        help="Another seed deals the blotches anew.")

    @field_validator("lit", "body", "base", "edge_tint", "blotch_tint")
    @classmethod
    def _colour(cls, value: str) -> str:
        return colour_of(value)
