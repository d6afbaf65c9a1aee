"""The Guide: short how-tos, and every control from its own declaration."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, render_template, url_for

from dovrek.sky.genera import FEATURES, GENUS_DEFAULTS, GENUS_ETAGE, SPECIES, VARIETIES
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import Parameter, parameters_of
from dovrek.sky.recipe import shipped
from dovrek.web.shared.things import THING_NAMES, THINGS

pages = Blueprint("guide", __name__)


@dataclass(frozen=True)
class HowTo:
    """One short instruction with the shipped picture it leads to."""

    title: str
    picture: str
    steps: tuple[str, ...]


SHOWN = ("morning-fog", "bank-over-the-island")  # pictures that ship with the guide
HOW_TOS = (
    HowTo("Block in a sky", "scattered", (
        "Start a sky on the Skies page, clear or from a starter.",
        "Set site, date and camera in the schedule; drag the hour on the ribbon until the light "
        "is right. The light comes first.",
        "Add a layer above the section: low heaps, then a middle sheet, then high streaks. "
        "Drag each band to its height, its edge for thickness.",
        "Set the cover of each. Cells stay where they are while cover, life and density change.",
        "Press T on any control for its test strip and click the picture you like.")),
    HowTo("Match a photograph", "golden-hour", (
        "Open Compare and add the photograph as a reference.",
        "Set its lens if the file did not tell; see that the horizon line lies on its horizon, or "
        "drag it there.",
        "Look at the cloud mask: move the red over blue ratio until cloud is hatched and blue "
        "sky is not. What stands before the sky bears level lines and is left out; trace the "
        "skyline over walls and grass that they miss.",
        "Have a sky suggested. It becomes a version; compare it by wiping, then take it or not.",
        "Mend by hand what a photograph cannot tell: place, date, and how bright it was.")),
    HowTo("Make a sunset", "twilight", (
        "Drag the hour into the evening, or drag the sun itself down its path in the picture.",
        "Order the sheet Hours to see the whole evening at once.",
        "High streaks stay lit when low heaps are in shadow: add cirrus for the last colour.",
        "A little more haze reddens the light; more ozone deepens the blue above.")),
    HowTo("Let it move", "streets", (
        "Turn the strip at the bottom to Clip (M). Set its length, its frames a second and how "
        "many seconds of the sky pass in a second of it.",
        "Each layer drifts at its own wind (Speed, in its group Wind; by its height unless set) "
        "and churns: lumps boil, sheets rework themselves, veils stream. Heaps are born, grow and "
        "go within their lifetime, and others take their places. Winds may be typed in knots: "
        "20 kn.",
        "Drag the marker along the film. To change a control along the clip, press the ring at its "
        "row: it is keyed at that second. Go on, change it there, and a second key stands; drag "
        "keys in time and value. A travel east keyed at 400 km is a pass in orbit: the sun stays "
        "put, and day comes over the limb.",
        "Loop lets the last frame meet the first, whatever the wind; the sun stands still in it.",
        "Press Motion proof: it plays while it refines. Then order a film (P), or write frames by "
        "dovrek sequence. An open shutter gives what moves fast a soft trace.")),
    HowTo("Morning fog", "morning-fog", (
        "In Place, choose a land: hills, a mountain, an island, or a height map of your own (grey, "
        "north up, 16 bits where you can). In the plan (key 3) drag it to its place and turn it at "
        "the end of its line; two presses there set the camera down.",
        "In Air, turn Fog on. Sight says how far one sees in it: 100 m is thick, 1000 m is mist.",
        "Let it lie on the ground for a veil over fields, or up to a level above the sea: hollows "
        "fill first and what is higher stands through it.",
        "Set the hour low: light through fog is best within an hour of sunrise. Patchiness tears "
        "it, a smaller size makes wisps.",
        "Raise the camera above it for a sea of fog, or leave it inside. In the clip it drifts; "
        "key its sight or its level and it lifts.")),
    HowTo("Put a cloud exactly there", "bank-over-the-island", (
        "In a layer of cumulus or cumulonimbus press Place a cloud, then the place in the picture "
        "or the plan where its base is to stand.",
        "Drag its foot, its top and its side; Another like it deals its form anew, Cleared sends "
        "the layer's other clouds away from it. A layer of no cover has placed clouds alone.",
        "By keys, on its mark: arrows move it, with Shift they widen it, D copies, Delete removes.",
        "To keep a whole layer to a place, give it a bank (ellipse or box) and drag it in the "
        "plan: it closes softly in cover and height, and peaks stand through it. Drape lets a "
        "layer follow the land below it.")),
    HowTo("Cloud before a photograph", "scattered", (
        "In Place choose a picture behind: a photograph, or one of the whole sky (twice as wide as "
        "high; its sun is found and set).",
        "Fit a photograph: its lens is taken from the file if it says; move its pitch until its "
        "horizon lies on the drawn one. Drag the sun to where the photograph's is, or to where its "
        "shadows say.",
        "Add a layer with few clouds, or one of no cover, and place clouds where they are wanted. "
        "Where no cloud is the photograph stays as it is; set the exposure until clouds are as "
        "bright as those in it.",
        "Match tints, beside the picture, gives the layers a wash by its colours; each layer's "
        "Wash says how much of it stays.",
        "Order the whole, or Ground: clouds alone, which keeps them with alpha for compositing.")),
    HowTo("Take the sky of a report", "scattered", (
        "On the Skies page choose From a weather report, and paste a METAR or a forecast (TAF).",
        "Read says what each group is and what it sets; groups that are not known are left out.",
        "Make this sky keeps place, month and camera of a sky of yours. The simulated station "
        "below gives reports to try, and its whole day as a clip.")),
    HowTo("Light a building with a dome", "planning-overcast", (
        "Line the horizon up: import the camera, or lay the drawing of the building over the "
        "picture and drag the horizon line.",
        "Look at the dome (key 2): the thin frame is what the camera sees.",
        "Order a dome (P). Its sun is a light of its own beside it, or in it; the USD file binds "
        "both and the camera, north stands in the sidecar.",
        "Hold the proof of lighting beside your own render: the shadows fall alike, and the lux on "
        "ground and walls are written there.")),
)


def _groups(model: type[Any]) -> list[tuple[str, list[Parameter]]]:
    groups: dict[str, list[Parameter]] = {}
    for parameter in parameters_of(model):
        groups.setdefault(parameter.group, []).append(parameter)
    return list(groups.items())


def range_text(parameter: Parameter) -> str:
    """What a control may be, in words."""
    if parameter.low is not None and parameter.high is not None:
        return f"{parameter.low:g} to {parameter.high:g} {parameter.unit}".strip()
    if parameter.options:
        return ", ".join(o or "none" for o in parameter.options)
    return {"switch": "on or off", "colour": "a colour", "curve": "a curve",
            "map": "a picture"}.get(parameter.kind, "a text")


@pages.get("/guide")
def front() -> Any:
    things = [("Layer", _groups(Layer))]
    things += [(THING_NAMES[key], _groups(model)) for key, model in THINGS.items()]
    genera = [(genus, GENUS_ETAGE[genus], list(SPECIES[genus]), list(VARIETIES[genus]),
               list(FEATURES[genus])) for genus in GENUS_DEFAULTS]
    pictures = {slug: url_for("library.picture", key=slug) for slug in shipped()}
    pictures |= {name: url_for("static_file", room="guide", name=f"{name}.jpg") for name in SHOWN}
    return render_template("guide.html", page="guide", how_tos=HOW_TOS, things=things,
                           genera=genera, pictures=pictures, range_text=range_text)
