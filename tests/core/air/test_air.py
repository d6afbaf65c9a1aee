"""The clear atmosphere against published measurements and standards."""

from __future__ import annotations

import math

import numpy as np
import pytest
from colour.phenomena import rayleigh_optical_depth as colour_rayleigh
from pvlib.spectrum import get_reference_spectra

from dovrek.core.air import scattering
from dovrek.core.air.media import AirParameters, Media, media_of, rayleigh_optical_depth
from dovrek.core.air.scattering import column_of, cosine_of
from dovrek.core.air.sky_looks import sky_radiance
from dovrek.core.air.sky_view import haze_phase
from dovrek.core.air.sun_table import (
    build_sun_table,
    profile,
    sun_columns,
    sun_transmittance,
)
from dovrek.core.air.sunlight import illuminances
from dovrek.core.colour.spectrum import (
    WAVELENGTHS_NM,
    WAVES,
    extraterrestrial_irradiance,
    white_of_temperature,
    xyz_weights,
)
from dovrek.core.compile.arithmetic import exp_minus
from dovrek.core.compile.kernels import plain
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.preparer import Prepared
from dovrek.core.run.workers import Cancel
from tests.conftest import free_sun

STANDARD = AirParameters(0.1, 1500.0, 300.0, 0.18, 0.0, 0.0)


@pytest.fixture(scope="module")
def media() -> Media:
    return media_of(STANDARD)


def prepared_for(studio: Studio, elevation: float, **parts: object) -> Prepared:
    parts.setdefault("site", {"elevation_m": 0})
    return studio.preparer.scene(free_sun(elevation, **parts), FINE, Cancel())


def lux(prepared: Prepared) -> tuple[float, float, float]:
    """Direct normal, diffuse and global illuminance of a clear sky."""
    air = prepared.atmosphere
    columns, trans = np.empty(4), np.empty(WAVES)
    sun_transmittance(air.sun, air.media, 0.0, math.sin(prepared.sun.elevation_true),
                      air.media.haze_per_km, columns, trans)
    normal = float((trans @ xyz_weights())[1])
    direct, diffuse = illuminances(air.media, air.sun, air.scattered, prepared.sun)
    return normal, float(diffuse[1]), float(direct[1] + diffuse[1])


def test_rayleigh_optical_depth() -> None:
    """Within 1 % of colour-science's (Bodhaine et al. 1999), 400–700 nm; 0.09707 at 550 nm."""
    waves = np.arange(400.0, 701.0, 20.0)
    theirs = [colour_rayleigh(w * 1e-7, pressure=101325, CO2_concentration=360, latitude=45)
              for w in waves]
    assert rayleigh_optical_depth(waves) == pytest.approx(np.array(theirs), rel=0.01)
    assert rayleigh_optical_depth(550.0) == pytest.approx(0.09707, rel=0.005)


def test_extraterrestrial_illuminance() -> None:
    """133.1 klx ± 1 % (CIE photopic weighing of ASTM G173's extraterrestrial column)."""
    assert xyz_weights()[:, 1].sum() == pytest.approx(133_100, rel=0.01)


def test_air_mass(media: Media) -> None:
    """Kasten & Young 1989 at the apparent zenith angle: 1 % to 80°, 3 % to 88°."""
    table = build_sun_table(media)
    from dovrek.core.air.sun_place import true_of_apparent

    vertical = np.empty(4)
    sun_columns(table, 0.0, 1.0, vertical)
    for zenith, tolerance in ((0, 0.01), (40, 0.01), (60, 0.01), (75, 0.01), (80, 0.01),
                              (85, 0.03), (88, 0.03)):
        true = math.radians(true_of_apparent(90.0 - zenith))
        out = np.empty(4)
        sun_columns(table, 0.0, math.sin(true), out)
        known = 1.0 / (math.cos(math.radians(zenith))
                       + 0.50572 * (96.07995 - zenith) ** -1.6364)
        assert out[0] / vertical[0] == pytest.approx(known, rel=tolerance)


def test_direct_spectrum_of_g173() -> None:
    """ASTM G173-03 direct, AM 1.5, AOD 0.084 at 500 nm, ozone 0.344: broadband 3 %, 10 nm bands
    10 % outside water and oxygen bands (which this air does not model)."""
    waves = np.arange(400.0, 701.0, 5.0)
    at_550 = 0.084 * (550.0 / 500.0) ** -1.3
    air = media_of(AirParameters(at_550, 1500.0, 344.0, 0.2, 0.0, 0.0))
    table = build_sun_table(air)
    columns = np.empty(4)
    sun_columns(table, 0.0, math.cos(math.radians(48.236)), columns)
    sea_km = air.molecules_per_km[0] / rayleigh_optical_depth(WAVELENGTHS_NM[0])
    depth = (rayleigh_optical_depth(waves) * sea_km * columns[0]
             + at_550 * (waves / 550.0) ** -1.3 / 1.5 * columns[1]
             + np.interp(waves, WAVELENGTHS_NM, air.ozone_per_km) * columns[2])
    nm, above = extraterrestrial_irradiance()
    ours = np.interp(waves, nm, above) * np.exp(-depth)
    g173 = get_reference_spectra()["direct"]
    theirs = np.interp(waves, g173.index.values, g173.values)
    assert np.trapezoid(ours, waves) == pytest.approx(np.trapezoid(theirs, waves), rel=0.03)
    bands = ~(((waves > 585) & (waves < 600)) | ((waves > 625) & (waves < 632))
              | ((waves > 645) & (waves < 660)) | (waves > 684))
    smooth = np.convolve(ours / theirs, np.ones(3) / 3, "same")
    assert smooth[1:-1][bands[1:-1]] == pytest.approx(1.0, abs=0.10)


@pytest.mark.parametrize(("elevation", "low", "high"), [(60, 95e3, 110e3)])
def test_clear_noon_illuminance(studio: Studio, elevation: float, low: float,
                                high: float) -> None:
    """Sun 60°: direct normal and global horizontal 95–110 klx (IES handbook, from memory)."""
    normal, _, total = lux(prepared_for(studio, elevation))
    assert low <= normal <= high
    assert low <= total <= high


def test_clear_low_sun_illuminance(studio: Studio) -> None:
    """Sun 10°: global 10–16 klx (IES handbook range, from memory)."""
    assert 10e3 <= lux(prepared_for(studio, 10))[2] <= 16e3


@pytest.mark.parametrize(("elevation", "known", "factor"),
                         [(-6, 3.4, 1.3), (-9, 0.116, 1.3), (-12, 0.008, 1.5), (-3, 79, 1.6)])
def test_twilight(studio: Studio, elevation: float, known: float, factor: float) -> None:
    """True elevation −3, −6, −9, −12°: 79, 3.4, 0.116, 0.008 lx (Explanatory Supplement,
    from memory)."""
    found = lux(prepared_for(studio, elevation))[2]
    assert known / factor <= found <= known * factor


def test_light_falls_without_steps_from_zenith_to_ten_below(studio: Studio) -> None:
    values = [lux(prepared_for(studio, e))[2] for e in (90, 60, 30, 10, 5, 2, 0, -2, -5, -10)]
    assert all(np.isfinite(values)) and all(a > b > 0 for a, b in zip(values, values[1:],
                                                                       strict=False))


@pytest.mark.parametrize("elevation", [40, 60])
def test_shape_of_a_clear_sky(studio: Studio, elevation: float) -> None:
    """CIE general sky type 12 (ISO 15469) along the sun's meridian: correlation above 0.9."""
    view = prepared_for(studio, elevation).scene.clear
    zenith_sun = math.radians(90 - elevation)
    ours, cie = [], []
    for angle in np.radians(np.arange(-80.0, 81.0, 4.0)):
        away = abs(angle - zenith_sun)
        if away < math.radians(12):
            continue
        out = np.empty(3)
        azimuth = math.pi if angle >= 0 else 0.0
        cosine = math.cos(away)
        sky_radiance(view, 0.5 * math.pi - abs(angle), azimuth, cosine, np.empty(14), out)
        ours.append(out[1])
        gradation = 1 - 1.0 * math.exp(-0.32 / max(math.cos(angle), 1e-3))
        indicatrix = 1 + 10 * (math.exp(-3 * away) - math.exp(-3 * math.pi / 2)) + (
            0.45 * cosine**2)
        cie.append(gradation * indicatrix)
    assert np.corrcoef(ours, cie)[0, 1] > 0.9


def test_haze_phase_integrates_to_one() -> None:
    """Over the sphere within 0.1 % (definition, van de Hulst 1957)."""
    cosine, weight = np.polynomial.legendre.leggauss(200)
    total = 2 * math.pi * sum(w * haze_phase(c) for c, w in zip(cosine, weight, strict=True))
    assert total == pytest.approx(1.0, abs=1e-3)


def test_exponential_of_kernels() -> None:
    """The squared quartic against numpy, and no growth far out (its trap)."""
    x = np.concatenate([np.linspace(0, 60, 400), [181.0, 1e6]])
    assert [exp_minus(v) for v in x] == pytest.approx(np.exp(-x), abs=2e-6)


def test_light_of_moments_is_a_polynomial_of_the_sunward_component(media: Media) -> None:
    """What gathers an order of scattering sums three powers of x; another form of the same."""
    rng = np.random.default_rng(5)
    moments = rng.uniform(0.0, 1.0, (2, scattering.COSINES, scattering.MOMENTS, WAVES))
    rayleigh, haze = rng.uniform(0.0, 0.1, (2, WAVES))
    powers = np.empty((scattering.COSINES, 3, WAVES))
    mu, above, chi1, chi2r, chi2h = 0.31, 0.37, 0.6, 0.1, 0.35
    plain(scattering._folded)(moments, 0, above, mu, rayleigh, haze, chi1, chi2r, chi2h, powers)
    between = moments[0] + above * (moments[1] - moments[0])
    for j in (0, 17, 63):
        for x in (-0.9, 0.0, 0.4):
            wanted = [plain(scattering._turned)(*between[j, :, w], mu, x, rayleigh[w], haze[w],
                                                chi1, chi2r, chi2h) for w in range(WAVES)]
            np.testing.assert_allclose(powers[j, 0] + x * powers[j, 1] + x * x * powers[j, 2],
                                       wanted, rtol=1e-12)


def test_scattering_grid_inverts() -> None:
    for j in range(64):
        assert column_of(-0.36, cosine_of(-0.36, j)) == pytest.approx(j, abs=1e-6)


def test_daylight_white_is_near_d65() -> None:
    """The Planckian white at 6504 K lies within 0.01 of D65 in x and y (CIE 015:2018)."""
    xyz = white_of_temperature(6504.0)
    x, y = xyz[0] / xyz.sum(), xyz[1] / xyz.sum()
    assert (x, y) == pytest.approx((0.3127, 0.3290), abs=0.01)


@pytest.mark.parametrize("depth", [0.2, 0.5, 2.0])
def test_shallow_and_deep_air_have_the_same_column(media: Media, depth: float) -> None:
    """Toward the zenith as much of each; molecules thin out over `depth` times the height."""
    columns = []
    for air in (media, media_of(STANDARD._replace(depth=depth))):
        out = np.empty(4)
        sun_columns(build_sun_table(air), 0.0, 1.0, out)
        columns.append((out[0] * air.molecules_per_km[3], out[2] * air.ozone_per_km[3]))
    assert columns[1] == pytest.approx(columns[0], rel=0.02)
    ours, heights = media_of(STANDARD._replace(depth=depth)), (1.0, 4.0, 9.0, 16.0)
    thinned = [profile(ours.molecules, h * depth) for h in heights]
    assert thinned == pytest.approx([profile(media.molecules, h) for h in heights], rel=0.02)


def test_light_reaches_round_a_small_planet(media: Media) -> None:
    """The darkest sun that is tabled: 21° down on the earth, the whole way round on a small one;
    light is bent round no planet."""
    assert media.cosine_low == -0.36
    small, great = (media_of(STANDARD._replace(planet_radius_km=r)) for r in (50.0, 63_710.0))
    assert small.cosine_low < -0.9 < -0.36 < great.cosine_low < 0.0
    for air in (media, small, great):
        table = build_sun_table(air)
        assert np.isfinite(table.columns).all() and (np.diff(table.horizon) <= 1e-9).all()
        for j in (0, 20, 42, 63):
            assert column_of(air.cosine_low, cosine_of(air.cosine_low, j)) == pytest.approx(j)
    assert great.refractivity < media.refractivity == small.refractivity
