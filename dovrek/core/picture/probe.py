"""Numbers about a sky without a picture: sun, light, layers, camera."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sky_looks import sky_radiance
from dovrek.core.air.sources import sunlight_factor
from dovrek.core.air.sun_place import Place, moon_place, sun_place
from dovrek.core.air.sun_table import sun_transmittance
from dovrek.core.clouds.measure import EYE_DEPTH, MEASURED_M, column_depths, lid_touched
from dovrek.core.colour.spectrum import WAVES, correlated_colour_temperature, xyz_weights
from dovrek.core.geometry.lens import dome_lens
from dovrek.core.picture.render import Quality, render_frame
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.preparer import Prepared, Preparer
from dovrek.core.run.workers import Cancel, Workers
from dovrek.core.transport.march import ray_depth
from dovrek.sky.advisories import advisories
from dovrek.sky.document import Sky
from dovrek.sky.seen import layers_of

COLUMNS = 180
LID_COLUMNS = 120
DOME = (192, 96)
VISIBLE_LUX = 0.01


def measured_layer(body: LayerBody, workers: Workers, cancel: Cancel,
                   columns: int = COLUMNS) -> dict[str, float]:
    """Cover (oktas), mean optical depth of covered columns, mean extinction within cloud."""
    depths, lengths = np.empty((columns, columns)), np.empty((columns, columns))
    steps = int(np.clip(float(body.record["thickness"]) / 18.0, 16, 160))
    workers.over(cancel, 6)(lambda a, b: column_depths(
        body.field, 0, 0.5 * MEASURED_M, columns, steps, a, b, depths, lengths), columns)
    covered = depths > EYE_DEPTH
    inside = float(lengths.sum())
    return {
        "cover_measured_oktas": 8.0 * float(covered.mean()),
        "optical_depth_mean": float(depths[covered].mean()) if covered.any() else 0.0,
        "extinction_mean_per_m": float(depths.sum()) / inside if inside > 0 else 0.0,
    }


def lids_of(sky: Sky, preparer: Preparer, cancel: Cancel) -> dict[str, float]:
    """By layer id: share of the cloud of every shown layer that reaches its layer's lid."""
    return {layer.id: lid_touched(preparer.body(sky, layer, FINE, cancel).field, 0,
                                  0.25 * MEASURED_M, LID_COLUMNS) for layer in layers_of(sky)}


def dome_diffuse(frame: NDArray[np.float32]) -> NDArray[np.float64]:
    """XYZ illuminance (lx) on level ground by the upper half of a dome frame."""
    height, width = frame.shape[:2]
    elevation = (0.5 - (np.arange(height) + 0.5) / height) * math.pi
    solid = (2 * math.pi / width) * (math.pi / height) * np.cos(elevation)
    weight = np.where(elevation > 0, solid * np.sin(elevation), 0.0)
    return np.einsum("h,hwc->c", weight, frame[..., :3].astype(np.float64))


def direct_normal(prepared: Prepared, place: Place, height_m: float) -> NDArray[np.float64]:
    """XYZ illuminance (lx) that the real sun would give through clear air from a place, on a plane
    turned to it."""
    columns, trans = np.empty(4), np.empty(WAVES)
    air = prepared.atmosphere
    sun_transmittance(air.sun, air.media, height_m * 1e-3, math.sin(place.elevation_true),
                      air.media.haze_per_km, columns, trans)
    return np.asarray(trans @ xyz_weights())


def light_of(sky: Sky, preparer: Preparer, prepared: Prepared, cancel: Cancel) -> dict[str, Any]:
    """Direct, diffuse and global illuminances with and without the clouds."""
    workers, sun = preparer.workers, sun_place(sky)
    bare = preparer.scene(sky.model_copy(update={"layers": []}), FINE, cancel)
    normal = direct_normal(prepared, sun, sky.camera.altitude_m) * sunlight_factor(sky)
    up = max(math.sin(sun.elevation), 0.0)
    clear = dome_light(bare, workers, cancel)
    clouded = dome_light(prepared, workers, cancel) if prepared.bodies else clear
    vector = sun.vector
    depth = ray_depth(prepared.scene.field, prepared.scene.radius, prepared.scene.height, *vector,
                      0.5, 0.5, prepared.scene.clear.air_far_m) if vector[2] > 0 else 0.0
    through = math.exp(-depth)
    zenith = np.empty(3)
    overhead = np.zeros(3)
    for light in bare.lights:
        sky_radiance(light.scene.clear, 0.5 * math.pi - 1e-6, 0.0, light.sun.vector[2],
                     np.empty(14), zenith)
        overhead += (zenith + light.scene.glow) * light.weight
    bright = float(normal[1]) >= VISIBLE_LUX
    return {
        "sun": {
            "elevation_deg": math.degrees(sun.elevation),
            "elevation_true_deg": math.degrees(sun.elevation_true),
            "azimuth_deg": math.degrees(sun.azimuth) % 360.0,
            "direct_normal_lux": float(normal[1]),
            "direct_horizontal_lux": float(normal[1]) * up,
            "cct_k": correlated_colour_temperature(normal) if bright else None,
        },
        "clear_sky": {
            "diffuse_horizontal_lux": float(clear[1]),
            "global_horizontal_lux": float(clear[1] + normal[1] * up),
            "zenith_cd_m2": float(overhead[1]),
            "zenith_cct_k": correlated_colour_temperature(overhead)
            if clear[1] >= VISIBLE_LUX else None,
        },
        "sky": {
            "diffuse_horizontal_lux": float(clouded[1]),
            "direct_horizontal_lux": float(normal[1]) * up * through,
            "global_horizontal_lux": float(clouded[1] + normal[1] * up * through),
        },
    }


def lit_dome(prepared: Prepared, workers: Workers, cancel: Cancel) -> NDArray[np.float32]:
    """A small dome (h, w, 5) without the sun's disc, north in the middle, as true as the light."""
    # The light of fine detail, not that of clouds smoothed over these wide pixels.
    quality = Quality("dome", FINE, 3, 1.2, 2.0, footprint=0.15)
    return render_frame(prepared, dome_lens(), DOME, quality, workers, cancel, sun_disc=False)


def dome_light(prepared: Prepared, workers: Workers, cancel: Cancel) -> NDArray[np.float64]:
    """XYZ illuminance (lx) of level ground by a small dome without the sun's disc."""
    return dome_diffuse(lit_dome(prepared, workers, cancel))


def probe(sky: Sky, preparer: Preparer, cancel: Cancel) -> dict[str, Any]:
    """The numbers of the contract's `probe`."""
    prepared = preparer.scene(sky, FINE, cancel)
    workers = preparer.workers
    light = light_of(sky, preparer, prepared, cancel)
    moon, fraction, above_air = moon_place(sky)
    fall = 0.0
    if moon.elevation > 0:
        normal = direct_normal(prepared, moon, sky.camera.altitude_m)[1]
        fall = above_air * float(normal) / float(xyz_weights()[:, 1].sum())
    layers: list[dict[str, Any]] = []
    lids: dict[str, float] = {}
    for layer in sky.layers:
        row: dict[str, Any] = {
            "id": layer.id, "name": layer.name or layer.genus, "genus": layer.genus,
            "base_m": layer.base_m, "top_m": layer.top_m, "cover_oktas": layer.cover_oktas,
        }
        body = preparer.body(sky, layer, FINE, cancel)
        row |= measured_layer(body, workers, cancel)
        layers.append(row)
        lids[layer.id] = lid_touched(body.field, 0, 0.25 * MEASURED_M, LID_COLUMNS)
    camera = sky.camera
    return {
        "moment": sky.local_moment().isoformat(),
        "sun": light["sun"],
        "moon": {
            "elevation_deg": math.degrees(moon.elevation),
            "azimuth_deg": math.degrees(moon.azimuth) % 360.0,
            "illuminated_fraction": fraction,
            "direct_normal_lux": fall,
        },
        "clear_sky": light["clear_sky"],
        "sky": light["sky"],
        "layers": layers,
        "camera": {
            "fov_h_deg": math.degrees(camera.fov_h_rad),
            "fov_v_deg": math.degrees(camera.fov_v_rad),
            "altitude_m": camera.altitude_m,
        },
        "advisories": [a.data() for a in advisories(
            sky, light["sun"]["elevation_deg"], lids)],
    }
