"""Advisories: what an artist would want to be told about a sky, with the mend beside it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass

from dovrek.sky.document import Sky
from dovrek.sky.genera import ETAGES, GENUS_ETAGE
from dovrek.sky.layer import MAP_PREFIX

AIR_RIGHT_DOWN_TO_DEG = -10.0
LID_SHARE = 0.02


@dataclass(frozen=True)
class Advisory:
    """A plain-words warning: machine code, place in the document, text, mend."""

    code: str
    where: str
    text: str
    mend: str

    def data(self) -> dict[str, str]:
        return asdict(self)


def advisories(sky: Sky, sun_elevation_deg: float,
               lids: Mapping[str, float] | None = None) -> list[Advisory]:
    """All advisories of a sky whose sun stands at an apparent elevation.

    `lids` is, by layer id, the measured share of cloud that reaches its layer's lid.
    """
    found: list[Advisory] = []
    if sun_elevation_deg < AIR_RIGHT_DOWN_TO_DEG:
        found.append(Advisory(
            "night", "moment", f"The sun is {-sun_elevation_deg:.0f}° below the horizon: "
            "moon, airglow and stars light the picture.",
            "Choose an hour with the sun above −10° if it is to be twilight."))
    if sun_elevation_deg < -1.0 and sky.film.exposure_ev is not None and sky.film.exposure_ev > 8:
        found.append(Advisory(
            "day exposure", "film.exposure_ev", "The sun is down and the exposure is set for day.",
            "Set the exposure back to automatic."))
    eye = sky.site.elevation_m + sky.camera.altitude_m
    for index, layer in enumerate(sky.layers):
        where = f"layers[{index}]"
        title = layer.name or layer.genus
        low, high = ETAGES[GENUS_ETAGE[layer.genus]]
        if not low <= layer.base_m <= high:
            found.append(Advisory(
                "étage", f"{where}.base_m", f"{title} usually has its base between "
                f"{low:.0f} and {high:.0f} m; this one is at {layer.base_m:.0f} m.",
                f"Move the base to {min(max(layer.base_m, low + 200), high):.0f} m, "
                "or keep it if the place is not temperate."))
        if layer.map.asset and not layer.map.asset.startswith(MAP_PREFIX):
            found.append(Advisory(
                "map missing", f"{where}.map.asset", f"The cover map of {title}, "
                f"{layer.map.asset[:60]}, is not part of this sky; the layer is shown without it.",
                "Choose the picture again, or take the map off."))
        if layer.visible and layer.base_m <= eye <= layer.top_m:
            found.append(Advisory(
                "camera in cloud", "camera.altitude_m", f"The camera stands inside {title}.",
                "Raise the layer's base or lower the camera."))
        share = (lids or {}).get(layer.id, 0.0)
        if share > LID_SHARE:
            found.append(Advisory(
                "lid", f"{where}.thickness_m", f"{100 * share:.0f} % of {title} reaches the top of "
                "its layer and is cut flat there.",
                f"Raise the thickness to {1.2 * layer.thickness_m:.0f} m, or lower the lobes."))
        if layer.base_m < sky.site.elevation_m:
            found.append(Advisory(
                "base below ground", f"{where}.base_m", f"The base of {title} lies below "
                "the ground of the site.",
                f"Raise it above {sky.site.elevation_m:.0f} m; it is rendered just above "
                "the ground."))
    return found
