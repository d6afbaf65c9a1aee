"""The ten genera of the WMO cloud atlas, and the values that make their species.

Choosing a word sets controls. Behind a name alone stand only what no control says: how a body is
built (lenticularis, castellanus, floccus, fractus) and that radiatus runs along the wind.
Heights are the usual ones of temperate latitudes (WMO International Cloud Atlas: étages);
sizes and densities are common practice.
"""

from __future__ import annotations

from typing import Any

HEAPS = ("cumulus", "cumulonimbus")
CELLS = ("stratocumulus", "altocumulus", "cirrocumulus")
SHEETS = ("stratus", "altostratus", "nimbostratus")
VEILS = ("cirrus", "cirrostratus")

# Étages of temperate latitudes, metres (WMO International Cloud Atlas).
ETAGES = {"low": (0.0, 2000.0), "middle": (2000.0, 7000.0), "high": (5000.0, 13_000.0)}
GENUS_ETAGE = {
    "cumulus": "low", "cumulonimbus": "low", "stratocumulus": "low", "stratus": "low",
    "nimbostratus": "low", "altocumulus": "middle", "altostratus": "middle", "cirrus": "high",
    "cirrocumulus": "high", "cirrostratus": "high",
}

Values = dict[str, Any]

GENUS_DEFAULTS: dict[str, Values] = {
    "cumulus": {
        "base_m": 1100.0, "thickness_m": 1000.0, "cover_oktas": 3.0,
        "cells": {"size_m": 1500.0, "spread": 0.5, "huddle": 0.35},
        "clearings": {"share": 0.15, "size_km": 14.0},
        "body": {"density_per_km": 90.0, "fray": 0.3, "lobes": 0.6, "edge_m": 10.0},
        "wind": {"from_deg": 240.0},
    },
    "cumulonimbus": {
        "base_m": 1000.0, "thickness_m": 9500.0, "cover_oktas": 2.0,
        "cells": {"size_m": 11_000.0, "spread": 0.45, "huddle": 0.5},
        "clearings": {"share": 0.3, "size_km": 70.0},
        "body": {"density_per_km": 80.0, "growth": 1.0, "growth_spread": 0.5, "anvil": 0.6,
                 "fray": 0.3, "lobes": 0.7, "edge_m": 28.0},
        "fall": {"amount": 0.6, "reach": 1.0},
        "wind": {"from_deg": 240.0, "slant": 0.1},
        "life": {"cycle_s": 5400.0},
    },
    "stratocumulus": {
        "base_m": 1200.0, "thickness_m": 420.0, "cover_oktas": 6.0,
        "cells": {"size_m": 1000.0, "spread": 0.5, "huddle": 0.12},
        "clearings": {"share": 0.0, "size_km": 25.0},
        "rows": {"share": 0.2},
        "body": {"density_per_km": 38.0, "fray": 0.3, "lobes": 0.5, "edge_m": 60.0},
        "wind": {"from_deg": 240.0, "comb": 0.25},
    },
    "stratus": {
        "base_m": 450.0, "thickness_m": 380.0, "cover_oktas": 8.0,
        "cells": {"size_m": 1900.0, "spread": 0.5, "huddle": 0.0},
        "clearings": {"share": 0.0, "size_km": 12.0},
        "body": {"density_per_km": 30.0, "fray": 0.35, "lobes": 0.4, "edge_m": 120.0},
        "wind": {"from_deg": 240.0, "comb": 0.2},
    },
    "nimbostratus": {
        "base_m": 900.0, "thickness_m": 2600.0, "cover_oktas": 8.0,
        "cells": {"size_m": 2900.0, "spread": 0.5, "huddle": 0.0},
        "clearings": {"share": 0.0, "size_km": 30.0},
        "body": {"density_per_km": 30.0, "fray": 0.5, "lobes": 0.1, "edge_m": 200.0},
        "fall": {"amount": 0.45, "reach": 1.0},
        "wind": {"from_deg": 230.0, "comb": 0.3},
    },
    "altocumulus": {
        "base_m": 3600.0, "thickness_m": 260.0, "cover_oktas": 4.0,
        "cells": {"size_m": 520.0, "spread": 0.5, "huddle": 0.2},
        "clearings": {"share": 0.15, "size_km": 20.0},
        "rows": {"share": 0.3},
        "body": {"density_per_km": 24.0, "fray": 0.35, "lobes": 0.45, "edge_m": 50.0},
        "wind": {"from_deg": 250.0, "comb": 0.35},
    },
    "altostratus": {
        "base_m": 3800.0, "thickness_m": 1400.0, "cover_oktas": 8.0,
        "cells": {"size_m": 5200.0, "spread": 0.5, "huddle": 0.0},
        "clearings": {"share": 0.0, "size_km": 60.0},
        "body": {"density_per_km": 6.5, "fray": 0.5, "lobes": 0.2, "edge_m": 420.0},
        "wind": {"from_deg": 250.0, "comb": 0.6},
    },
    "cirrus": {
        "base_m": 8600.0, "thickness_m": 1100.0, "cover_oktas": 3.0,
        "cells": {"size_m": 5200.0, "spread": 0.5, "huddle": 0.3},
        "clearings": {"share": 0.2, "size_km": 40.0},
        "body": {"density_per_km": 0.9, "fray": 0.6, "lobes": 0.3, "edge_m": 200.0},
        "wind": {"from_deg": 265.0, "comb": 0.7},
    },
    "cirrocumulus": {
        "base_m": 7400.0, "thickness_m": 160.0, "cover_oktas": 3.0,
        "cells": {"size_m": 220.0, "spread": 0.4, "huddle": 0.5},
        "clearings": {"share": 0.35, "size_km": 24.0},
        "rows": {"share": 0.5, "spacing_km": 0.5, "patchiness": 0.4},
        "body": {"density_per_km": 5.0, "fray": 0.4, "lobes": 0.4, "edge_m": 60.0},
        "wind": {"from_deg": 265.0, "comb": 0.25},
        "light": {"droplet_radius_um": 8.0},
    },
    "cirrostratus": {
        "base_m": 8200.0, "thickness_m": 1500.0, "cover_oktas": 8.0,
        "cells": {"size_m": 9000.0, "spread": 0.5, "huddle": 0.3},
        "clearings": {"share": 0.0, "size_km": 80.0},
        "body": {"density_per_km": 0.5, "fray": 0.12, "lobes": 0.3, "edge_m": 500.0},
        "wind": {"from_deg": 265.0, "comb": 0.45},
        "light": {"halo": 0.6},
    },
}

_SHEET_OF_CELLS: dict[str, Values] = {
    "stratiformis": {"cover_oktas": 6.0},
    "lenticularis": {
        "cover_oktas": 1.5, "thickness_m": 700.0, "cells": {"size_m": 8000.0, "spread": 0.4},
        "rows": {"share": 0.0},
        "body": {"density_per_km": 30.0, "fray": 0.12, "lobes": 1.0, "edge_m": 30.0},
    },
}
_TURRETS: dict[str, Values] = {
    "castellanus": {
        "cover_oktas": 2.5, "thickness_m": 900.0,
        "cells": {"size_m": 640.0, "spread": 0.8, "huddle": 0.6},
        "rows": {"share": 0.7, "spacing_km": 2.6, "patchiness": 0.6},
        "body": {"density_per_km": 35.0, "base_flatness": 1.0, "growth": 0.9,
                 "growth_spread": 0.9, "fray": 0.35, "lobes": 0.6, "edge_m": 20.0},
    },
    "floccus": {
        "cover_oktas": 2.5, "thickness_m": 420.0, "cells": {"size_m": 620.0, "huddle": 0.5},
        "rows": {"share": 0.15},
        "body": {"density_per_km": 26.0, "base_flatness": 0.0, "fray": 0.65, "lobes": 0.5,
                 "edge_m": 30.0},
    },
}

SPECIES: dict[str, dict[str, Values]] = {
    "cumulus": {
        "humilis": {"thickness_m": 900.0, "body": {"growth": 0.25, "lobes": 0.5}},
        "mediocris": {"thickness_m": 1300.0, "body": {"growth": 0.75}},
        "congestus": {"thickness_m": 4200.0, "cover_oktas": 3.0,
                      "cells": {"size_m": 3200.0, "huddle": 0.5},
                      "body": {"density_per_km": 70.0, "growth": 0.9, "growth_spread": 0.45,
                               "lobes": 0.75, "edge_m": 20.0}},
        "fractus": {"thickness_m": 350.0, "cover_oktas": 2.0, "cells": {"size_m": 800.0},
                    "body": {"growth": 0.8, "growth_spread": 0.4, "fray": 0.8, "lobes": 0.5,
                             "base_flatness": 0.2, "density_per_km": 45.0, "curl": 0.4,
                             "edge_m": 10.0}},
    },
    "cumulonimbus": {
        "calvus": {"body": {"anvil": 0.0, "lobes": 0.8}},
        "capillatus": {"body": {"anvil": 0.7}},
    },
    "stratocumulus": _SHEET_OF_CELLS | {
        "stratiformis": {"cover_oktas": 7.0},
        "castellanus": {**_TURRETS["castellanus"], "thickness_m": 800.0,
                        "cells": {"size_m": 1100.0, "huddle": 0.4}},
    },
    "stratus": {
        "nebulosus": {"cover_oktas": 8.0, "body": {"lobes": 0.2, "fray": 0.2}},
        "fractus": {"cover_oktas": 3.0, "thickness_m": 260.0, "base_m": 350.0,
                    "cells": {"size_m": 900.0, "huddle": 0.5},
                    "body": {"growth": 0.9, "fray": 0.9, "lobes": 0.6, "base_flatness": 0.1,
                             "density_per_km": 25.0, "edge_m": 22.0, "curl": 0.5}},
    },
    "nimbostratus": {},
    "altocumulus": _SHEET_OF_CELLS | _TURRETS,
    "altostratus": {},
    "cirrus": {
        "fibratus": {"wind": {"comb": 0.85}, "body": {"lobes": 0.3}},
        "uncinus": {"cover_oktas": 2.5, "thickness_m": 2200.0, "wind": {"comb": 0.9},
                    "cells": {"size_m": 3000.0}, "body": {"lobes": 1.0, "density_per_km": 1.3}},
        "spissatus": {"cover_oktas": 3.0, "thickness_m": 1500.0, "wind": {"comb": 0.6},
                      "body": {"density_per_km": 4.2, "fray": 0.75, "edge_m": 500.0}},
        "floccus": {"cover_oktas": 2.0, "wind": {"comb": 0.1},
                    "cells": {"size_m": 2600.0},
                    "body": {"lobes": 1.0, "density_per_km": 1.8, "fray": 0.7}},
    },
    "cirrocumulus": {
        "stratiformis": {"cover_oktas": 5.0},
        "lenticularis": {**_SHEET_OF_CELLS["lenticularis"], "thickness_m": 400.0},
    },
    "cirrostratus": {
        "nebulosus": {"body": {"fray": 0.05}, "wind": {"comb": 0.3}},
        "fibratus": {"body": {"fray": 0.5}, "wind": {"comb": 0.85}},
    },
}



def _waves(spacing_km: float) -> Values:
    """Waves of a sheet without cells."""
    return {"rows": {"share": 0.75, "spacing_km": spacing_km, "patchiness": 0.15}}


def _rolls(spacing_km: float, patchiness: float = 0.3) -> Values:
    """Parallel rolls of cells, a roll about as wide as the genus's cells."""
    return {"rows": {"share": 0.85, "spacing_km": spacing_km, "patchiness": patchiness},
            "cells": {"huddle": 0.14}, "wind": {"comb": 0.6}}


_ALONG: Values = {"rows": {"share": 0.7, "spacing_km": 5.0}}
VARIETIES: dict[str, dict[str, Values]] = {
    "cumulus": {"radiatus": {"rows": {"share": 0.8}}},
    "cumulonimbus": {},
    "stratocumulus": {
        "undulatus": _rolls(1.5), "radiatus": _ALONG,
        "perlucidus": {"cover_oktas": 5.5, "cells": {"huddle": 0.0, "spread": 0.25}},
        "translucidus": {"body": {"density_per_km": 14.0}},
        "opacus": {"cover_oktas": 8.0, "body": {"density_per_km": 60.0}},
        "lacunosus": {"cover_oktas": 5.0, "body": {"fray": 0.6}, "clearings": {"share": 0.3,
                                                                             "size_km": 3.0}},
    },
    "stratus": {"undulatus": _waves(1.6), "translucidus": {"body": {"density_per_km": 8.0}},
                "opacus": {"body": {"density_per_km": 50.0}}},
    "nimbostratus": {},
    "altocumulus": {
        "undulatus": _rolls(0.75), "radiatus": _ALONG,
        "perlucidus": {"cover_oktas": 5.0, "cells": {"huddle": 0.0, "spread": 0.25}},
        "translucidus": {"body": {"density_per_km": 10.0}},
        "opacus": {"cover_oktas": 8.0, "body": {"density_per_km": 45.0}},
        "lacunosus": {"cover_oktas": 5.0, "body": {"fray": 0.6}, "clearings": {"share": 0.3,
                                                                             "size_km": 2.0}},
    },
    "altostratus": {"undulatus": _waves(3.5), "radiatus": _ALONG,
                    "translucidus": {"body": {"density_per_km": 2.4}},
                    "opacus": {"body": {"density_per_km": 14.0}}},
    "cirrus": {"radiatus": {"rows": {"share": 0.6, "spacing_km": 24.0}}},
    "cirrocumulus": {"undulatus": _rolls(0.4, 0.2),
                     "lacunosus": {"clearings": {"share": 0.4, "size_km": 2.0}}},
    "cirrostratus": {"undulatus": {"rows": {"share": 0.5, "spacing_km": 12.0}}},
}

_VIRGA: Values = {"fall": {"amount": 0.45, "reach": 0.5}}
_RAIN: Values = {"fall": {"amount": 0.7, "reach": 1.0}}
FEATURES: dict[str, dict[str, Values]] = {
    "cumulus": {"virga": _VIRGA, "praecipitatio": _RAIN},
    "cumulonimbus": {"incus": {"body": {"anvil": 0.85}}, "virga": _VIRGA,
                     "praecipitatio": _RAIN},
    "stratocumulus": {"virga": _VIRGA, "praecipitatio": _RAIN},
    "stratus": {"praecipitatio": _RAIN},
    "nimbostratus": {"virga": _VIRGA, "praecipitatio": _RAIN},
    "altocumulus": {"virga": {"fall": {"amount": 0.5, "reach": 0.3}}},
    "altostratus": {"virga": {"fall": {"amount": 0.3, "reach": 0.5}}},
    "cirrus": {},
    "cirrocumulus": {},
    "cirrostratus": {},
}


def defaults_of(genus: Any, species: Any, varieties: Any, features: Any) -> Values:
    """Values of a genus, overridden by its species, varieties and features in turn.

    Words that are no known ones (the document is not checked yet) add nothing.
    """
    if not isinstance(genus, str) or genus not in GENUS_DEFAULTS:
        return {}
    found = GENUS_DEFAULTS[genus]
    for words, known in (([species], SPECIES), (varieties, VARIETIES), (features, FEATURES)):
        for word in words if isinstance(words, list) else []:
            if isinstance(word, str) and word in known[genus]:
                found = merge_defaults(known[genus][word], found)
    return found


def merge_defaults(given: dict[str, Any], defaults: dict[str, Any]) -> dict[str, Any]:
    """`given` with every key it omits taken from `defaults`, group by group."""
    merged = dict(given)
    for key, value in defaults.items():
        if key not in merged:
            merged[key] = dict(value) if isinstance(value, dict) else value
        elif isinstance(value, dict) and isinstance(merged[key], dict):
            merged[key] = merge_defaults(merged[key], value)
    return merged

# The words of a layer by their keys.
WORDS: dict[str, dict[str, dict[str, Values]]] = {
    "species": SPECIES, "varieties": VARIETIES, "features": FEATURES}
