"""What the air is made of: molecules, ozone and haze, at eight wavelengths.

Heights here are kilometres above the site's ground, extinctions per kilometre.
"""

from __future__ import annotations

import math
from functools import cache
from importlib.resources import files
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dovrek.core.colour.spectrum import WAVELENGTHS_NM
from dovrek.core.geometry.planet import PLANET_RADIUS_KM

Array = NDArray[np.float64]

AIR_TOP_KM = 120.0
PROFILE_STEP_KM = 0.25
# Light that is scattered twice at the air's top reaches so far into the shadow: its sine, nearly.
DUSK = 0.96
PROFILE_NODES = int(AIR_TOP_KM / PROFILE_STEP_KM) + 1

REFRACTIVITY_AT_SEA = 2.78e-4  # n − 1 of air at 15 °C, 1013.25 hPa, visible light
MOST_BENT = 0.6  # curvature of a level ray over the planet's: at 1 light would run round it
ANGSTROM_EXPONENT = 1.3
HAZE_ALBEDO = 0.94
HAZE_LOBES = ((0.965, 0.80), (0.035, -0.45))  # weight and asymmetry of each Henyey–Greenstein lobe

OZONE_LOW_KM, OZONE_PEAK_KM, OZONE_HIGH_KM = 10.0, 25.0, 40.0


class AirParameters(NamedTuple):
    """What the air's tables depend on (plain numbers, hashable)."""

    haze: float
    haze_height_m: float
    ozone_du: float
    ground_albedo: float
    ground_warmth: float
    elevation_m: float
    planet_radius_km: float = PLANET_RADIUS_KM
    depth: float = 1.0  # heights of molecules and ozone over the earth's; columns stay


class Media(NamedTuple):
    """Constituents as kernels read them."""

    radius_km: float  # of the ground at the site
    refractivity: float  # n − 1 at relative density 1
    cosine_low: float  # of the sun, below which nothing lights the air that has been seen
    molecules: Array  # (481,) relative density every 0.25 km above the ground; sea level is 1
    ozone: Array  # (481,) relative to the tent's peak
    haze_height_km: float
    molecules_per_km: Array  # (8,) scattering at relative density 1
    haze_per_km: Array  # (8,) extinction at the ground
    ozone_per_km: Array  # (8,) absorption at the tent's peak
    haze_albedo: float
    chi2_molecules: float  # second Legendre moment of Rayleigh scattering
    haze_chi: Array  # (4,) Legendre moments 0..3 of the haze's phase function
    albedo: Array  # (8,) of the ground


def rayleigh_optical_depth(wavelength_nm: ArrayLike) -> Array:
    """Vertical optical depth of molecules above sea level. Source: Bodhaine et al. 1999, eq. 30."""
    s = (np.asarray(wavelength_nm, dtype=np.float64) * 1e-3) ** 2
    top = 1.0455996 - 341.29061 / s - 0.90230850 * s
    return 0.0021520 * top / (1 + 0.0027059889 / s - 85.968563 * s)


def rayleigh_chi2() -> float:
    """Second Legendre moment of Rayleigh scattering with depolarisation.

    χ₂ = 0.1 (1−γ)/(1+2γ), γ = ρ/(2−ρ), ρ = 6(F−1)/(3+7F) with the King factor F of air at
    550 nm. Source: Bodhaine et al. 1999 (F); Chandrasekhar 1960 (phase).
    """
    king = 1.0488
    depolarisation = 6.0 * (king - 1.0) / (3.0 + 7.0 * king)
    gamma = depolarisation / (2.0 - depolarisation)
    return 0.1 * (1.0 - gamma) / (1.0 + 2.0 * gamma)


@cache
def standard_density() -> Array:
    """Relative air density every 0.25 km from sea level to 130 km.

    Layers of constant temperature gradient to 86 km, then the standard's tabulated densities.
    Source: US Standard Atmosphere 1976, tables 4 and 8.
    """
    g0, gas, earth = 9.80665, 287.053, 6356.766
    base_km = [0.0, 11.0, 20.0, 32.0, 47.0, 51.0, 71.0, 84.852]
    lapse = [-6.5, 0.0, 1.0, 2.8, 0.0, -2.8, -2.0]
    temperature, pressure = [288.15], [101325.0]
    for i, rate in enumerate(lapse):
        span = base_km[i + 1] - base_km[i]
        t1 = temperature[i] + rate * span
        if rate == 0.0:
            p1 = pressure[i] * np.exp(-g0 * span * 1e3 / (gas * temperature[i]))
        else:
            p1 = pressure[i] * (temperature[i] / t1) ** (g0 * 1e3 / (gas * rate))
        temperature.append(t1)
        pressure.append(p1)
    z = np.arange(0.0, 130.0 + 1e-9, PROFILE_STEP_KM)
    density = np.empty_like(z)
    for k, height in enumerate(z):
        h = earth * height / (earth + height)
        i = min(int(np.searchsorted(base_km, h, side="right")) - 1, 6)
        t = temperature[i] + lapse[i] * (h - base_km[i])
        if lapse[i] == 0.0:
            p = pressure[i] * np.exp(-g0 * (h - base_km[i]) * 1e3 / (gas * temperature[i]))
        else:
            p = pressure[i] * (temperature[i] / t) ** (g0 * 1e3 / (gas * lapse[i]))
        density[k] = p / (gas * t)
    upper_km = np.array([86.0, 90.0, 95.0, 100.0, 105.0, 110.0, 115.0, 120.0, 130.0])
    upper = np.array(
        [6.958e-6, 3.416e-6, 1.393e-6, 5.604e-7, 2.325e-7, 9.708e-8, 4.289e-8, 2.222e-8, 8.152e-9]
    )
    high = z > 86.0
    density[high] = np.exp(np.interp(z[high], upper_km, np.log(upper)))
    return density / density[0]


@cache
def ozone_absorption() -> Array:
    """(8,) absorption, 1/(atm cm). Source: Bird & Riordan 1984."""
    text = files("dovrek.core.data").joinpath("ozone.csv").read_text()
    rows = np.array([r.split(",") for r in text.splitlines() if not r.startswith("#")], float)
    return np.interp(WAVELENGTHS_NM, rows[:, 0], rows[:, 1])


def haze_moment(order: int) -> float:
    """Legendre moment of the haze's double Henyey–Greenstein phase function."""
    return sum(weight * g**order for weight, g in HAZE_LOBES)


def ozone_tent(height_km: ArrayLike) -> Array:
    """Relative ozone density by height above sea level: a tent from 10 over 25 to 40 km."""
    nodes = [OZONE_LOW_KM, OZONE_PEAK_KM, OZONE_HIGH_KM]
    return np.interp(np.asarray(height_km, dtype=np.float64), nodes, [0.0, 1.0, 0.0])


def ground_albedo(air: AirParameters, wavelengths_nm: Array) -> Array:
    """Albedo by wavelength: a straight tilt about 550 nm, as of soils and dry grass."""
    tilt = 1.0 + air.ground_warmth * (wavelengths_nm - 550.0) / 200.0
    return np.clip(air.ground_albedo * tilt, 0.0, 0.98)


def media_of(air: AirParameters, wavelengths_nm: Array = WAVELENGTHS_NM) -> Media:
    """Constituents of the air above a site."""
    elevation_km = air.elevation_m * 1e-3
    sea = standard_density()
    sea_z = np.arange(len(sea)) * PROFILE_STEP_KM
    z = (np.arange(PROFILE_NODES) * PROFILE_STEP_KM + elevation_km) / air.depth
    molecules = np.exp(np.interp(z, sea_z, np.log(sea)))
    column_km = air.depth * float(np.trapezoid(sea, sea_z))
    haze_height_km = air.haze_height_m * 1e-3
    dusk = min(2.0 * math.acos(1.0 / (1.0 + AIR_TOP_KM / air.planet_radius_km)), 0.5 * math.pi)
    haze = air.haze * (wavelengths_nm / 550.0) ** (-ANGSTROM_EXPONENT) / haze_height_km
    ozone_column_km = 0.5 * air.depth * (OZONE_HIGH_KM - OZONE_LOW_KM)
    return Media(
        radius_km=air.planet_radius_km + elevation_km,
        refractivity=min(REFRACTIVITY_AT_SEA / air.depth,
                         MOST_BENT * column_km / air.planet_radius_km),
        cosine_low=-round(DUSK * math.sin(dusk), 2),
        molecules=molecules,
        ozone=ozone_tent(z),
        haze_height_km=haze_height_km,
        molecules_per_km=rayleigh_optical_depth(wavelengths_nm) / column_km,
        haze_per_km=haze,
        ozone_per_km=ozone_absorption() * air.ozone_du * 1e-3 / ozone_column_km,
        haze_albedo=HAZE_ALBEDO,
        chi2_molecules=rayleigh_chi2(),
        haze_chi=np.array([haze_moment(k) for k in range(4)]),
        albedo=ground_albedo(air, wavelengths_nm),
    )
