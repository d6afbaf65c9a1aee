"""A photograph or a picture of the whole sky that stands behind the layers."""

from __future__ import annotations

from typing import Literal

from pydantic import field_validator

from dovrek.sky.parameter import Group, choice, number

BEHIND_LETTERS = 1_400_000
BEGINS = ("data:image/jpeg;base64,", "data:image/png;base64,")


class Behind(Group):
    asset: str = choice(
        "", group="Picture behind", label="Picture", kind="map",
        help="A photograph, or a picture of the whole sky (twice as wide as high), that stands "
        "behind the layers instead of the clear sky and the ground.",
    )
    kind: Literal["photograph", "dome"] = choice(
        "photograph", group="Picture behind", label="Kind",
        help="photograph: through a lens. dome: all around, north in its middle column unless "
        "turned.",
    )
    lens_mm: float | None = number(
        None, low=8.0, high=800.0, step=1.0, unit="mm", group="Picture behind", label="Its lens",
        scale="log", derived="the camera's", help="Focal length it was taken with, for a film gate "
        "36 mm wide.",
    )
    heading_deg: float | None = number(
        None, low=0.0, high=360.0, step=1.0, unit="°", group="Picture behind", label="Its heading",
        derived="the camera's", help="Bearing it was taken toward.",
    )
    pitch_deg: float | None = number(
        None, low=-90.0, high=90.0, step=0.5, unit="°", group="Picture behind", label="Its pitch",
        derived="the camera's", help="Tilt it was taken at: move it until its horizon lies on the "
        "drawn one.",
    )
    turn_deg: float = number(
        0.0, low=-180.0, high=180.0, step=1.0, unit="°", group="Picture behind", label="Turn",
        help="Of a dome: bearing of its middle column.",
    )
    exposure_ev: float = number(
        0.0, low=-8.0, high=8.0, step=0.1, unit="EV", group="Picture behind", label="Brighter",
        help="Stops that it is shown brighter than it came. A photograph at 0 stays as it is, "
        "whatever the film; of a linear dome, over as bright as our own sky.",
    )

    @field_validator("asset")
    @classmethod
    def _short(cls, value: str) -> str:
        if len(value) > BEHIND_LETTERS:
            raise ValueError("a picture inside a sky is at most about 1 MB; give its file instead")
        return value

    @property
    def stands(self) -> bool:
        """Whether there is a picture at hand."""
        return self.asset.startswith(BEGINS)
