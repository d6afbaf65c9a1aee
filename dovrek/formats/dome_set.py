"""A dome with all that lines up with it: the picture, sun and moon as lights, the sidecar, cube
faces, and a proof of lighting made from the very files."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import OpenEXR
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from dovrek.core.air.sun_place import Place
from dovrek.core.colour.film import develop
from dovrek.core.colour.primaries import PRIMARIES
from dovrek.core.lighting.balls import Lights, proof_picture
from dovrek.core.lighting.beams import Beam, beams_of, with_discs
from dovrek.core.lighting.totals import FACES, beams_lux, face_lux
from dovrek.core.picture.probe import light_of, lit_dome
from dovrek.core.picture.render import Metered
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.preparer import Prepared
from dovrek.core.run.workers import Cancel, Workers
from dovrek.formats.bands import Band, Banded, of_frame
from dovrek.formats.exr_header import header_of
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import write_bands
from dovrek.formats.sidecar import sidecar, write_sidecar
from dovrek.formats.usd import Stage, write_stage
from dovrek.formats.whole_file import whole_file
from dovrek.sky.clip import sky_at
from dovrek.sky.document import Sky

PROOF_SIZE, PANEL, PROOF = (760, 420), 300, "-lighting.png"
# Faces of a cube by where they look: bearing from the dome's middle, and pitch, degrees.
CUBE = {"front": (0.0, 0.0), "right": (90.0, 0.0), "back": (180.0, 0.0), "left": (270.0, 0.0),
        "up": (0.0, 90.0), "down": (0.0, -90.0)}
READ_WIDTH = 4096  # up to which a dome is read back pixel by pixel
INK, PAPER = (38, 38, 40), (232, 232, 230)


@dataclass(frozen=True)
class DomeOrder:
    """How a dome is to be written."""

    name: str
    width: int = 4096
    quality: str = "final"
    sun_in: bool = False
    centre_deg: float = 0.0
    bits: str = "half"
    scale: str = "exposed"
    primaries: str = "rec709"
    face_pixels: int = 0  # of cube faces; 0: none
    clip_s: float | None = None

    @property
    def wish(self) -> Wish:
        return Wish(self.width, self.width // 2, self.quality, "dome", False, True,
                    self.centre_deg, clip_s=self.clip_s)

    @property
    def face_wish(self) -> Wish:
        """Of a face of the cube, for the sky of `face_sky`."""
        return replace(self.wish, width=self.face_pixels, height=self.face_pixels, view="picture",
                       sun_disc=self.sun_in)


class DomeNumbers(NamedTuple):
    """What is known of a dome's light where its scene is."""

    sun: Place
    metered: Metered
    light: dict[str, Any]  # as `probe` gives it
    beams: list[Beam]
    walls: dict[str, float]  # illuminances (lx) of FACES by the renderer itself


def dome_numbers(sky: Sky, prepared: Prepared, metered: Metered, studio: Studio,
                 cancel: Cancel) -> DomeNumbers:
    """The numbers of a sky's dome. Raises Cancelled."""
    beams = beams_of(sky, prepared)
    light = light_of(sky, studio.preparer, prepared, cancel)
    frame = lit_dome(prepared, studio.workers, cancel)
    plain = [(b.place.vector, b.lux) for b in beams]
    walls = {name: face_lux(frame[..., 1], normal) + beams_lux(plain, normal)
             for name, normal in FACES.items()}
    return DomeNumbers(prepared.sun, metered, light, beams,
                       walls | {"ground": light["sky"]["global_horizontal_lux"]})


def cube_faces(sky: Sky, order: DomeOrder, studio: Studio, cancel: Cancel
               ) -> dict[str, Banded]:
    """The cube's faces, if any are wanted. Raises Cancelled."""
    return {face: of_frame(studio.render(face_sky(sky, order, face), order.face_wish, cancel).light)
            for face in CUBE} if order.face_pixels else {}


def write_dome_set(folder: Path, sky: Sky, order: DomeOrder, dome: Banded,
                   numbers: DomeNumbers, workers: Workers, cancel: Cancel, seconds: float,
                   faces: dict[str, Banded] | None = None) -> dict[str, Any]:
    """Write all files of a dome without the sun's disc into a folder; gives their names and the
    proof's numbers.

    Raises OSError, Cancelled; what was written before is removed.
    """
    files: list[Path] = []
    try:
        return _write(folder, sky, order, dome, numbers, workers, cancel, seconds, faces or {},
                      files)
    except BaseException:
        for path in files:
            path.unlink(missing_ok=True)
        raise


def _write(folder: Path, sky: Sky, order: DomeOrder, dome: Banded,
           numbers: DomeNumbers, workers: Workers, cancel: Cancel, seconds: float,
           faces: dict[str, Banded], files: list[Path]) -> dict[str, Any]:
    metered, beams = numbers.metered, numbers.beams
    if order.clip_s is not None:
        sky = sky_at(sky, order.clip_s)
    developing = Developing(*metered, order.bits, order.scale,  # type: ignore[arg-type]
                            primaries=order.primaries)
    picture = folder / f"{order.name}.exr"
    files.append(picture)
    notes = write_bands(picture, _sunny(dome, beams, order) if order.sun_in else dome, developing,
                        header=header_of(sky, metered, "dome"))
    for face, light in faces.items():
        path = folder / f"{order.name}-{face}.exr"
        files.append(path)
        write_bands(path, light, developing)
    white = _white(picture)
    said = {
        "file": picture.name, "size": [order.width, order.width // 2], "projection":
        "equirectangular, row 0 the zenith", "quality": order.quality, "bits": order.bits,
        "colour_space": f"linear {PRIMARIES[order.primaries].title}", "white_cd_m2": white,
        "centre_azimuth_deg": order.centre_deg,
        "north_column": ((0.5 - order.centre_deg / 360.0) % 1.0) * order.width,
        "sun": "in the dome" if order.sun_in else "a light of its own",
        "seconds": round(seconds, 1),
    }
    data = sidecar(sky, numbers.sun, numbers.light, metered, said, notes)
    data["beams"] = [_beam_data(b) for b in beams]
    beside, stage = folder / f"{order.name}.json", folder / f"{order.name}.usda"
    proof = folder / f"{order.name}{PROOF}"
    files += [beside, stage, proof]
    write_sidecar(beside, data)
    write_stage(stage, Stage(picture.name, white, order.centre_deg,
                             () if order.sun_in else beams, sky.camera,
                             {"sky": sky.name, "moment": sky.local_moment().isoformat(),
                              "units": "cd/m2 and lux; x east, y north, z up"}, order.primaries))
    lights = _read_lights(picture, beside, order.sun_in)
    proved = proof_numbers(lights, data["beams"]) | {"renderer": numbers.walls}
    _write_proof(proof, lights, order, workers, metered, proved, cancel)
    return {"files": [f.name for f in files], "notes": notes, "illuminance_lux": proved,
            "beams": data["beams"]}


def _sunny(dome: Banded, beams: list[Beam], order: DomeOrder) -> Banded:
    """A dome with the discs of its beams."""
    centre = math.radians(order.centre_deg)

    def bands() -> Iterator[Band]:
        for band in dome.bands():
            yield Band(with_discs(band.light, beams, centre, band.top, dome.height), band.top)

    return Banded(dome.height, dome.width, bands)


def _beam_data(beam: Beam) -> dict[str, Any]:
    x, y, z = beam.place.vector
    return {"name": beam.name, "vector": [x, y, z], "illuminance_lux": beam.lux,
            "xyz_lux": list(beam.xyz_lux), "diameter_deg": math.degrees(beam.diameter_rad)}


def face_sky(sky: Sky, order: DomeOrder, face: str) -> Sky:
    """The sky through a lens of 90° each way toward a face of the cube."""
    turn, pitch = CUBE[face]
    camera = sky.camera.model_copy(update={
        "heading_deg": (order.centre_deg + turn) % 360.0, "pitch_deg": pitch, "roll_deg": 0.0,
        "lens_mm": 0.5 * sky.camera.sensor_width_mm, "aspect": 1.0})
    return sky.model_copy(update={"camera": camera})


def _white(picture: Path) -> float:
    with OpenEXR.File(str(picture)) as file:
        return float(file.header()["whiteLuminance"])


def _read_back(picture: Path, primaries: str) -> NDArray[np.float32]:
    """XYZ (cd/m²) of a dome as its file has it; of a large one the means of whole squares, by their
    solid angles."""
    to_xyz = np.linalg.inv(PRIMARIES[primaries].from_xyz) * _white(picture)
    with OpenEXR.File(str(picture)) as file:
        rgb = file.channels()["RGB"].pixels
        height, width = rgb.shape[:2]
        every = max(width // READ_WIDTH, 1)
        while height % every or width % every:
            every -= 1
        elevation = (0.5 - (np.arange(height) + 0.5) / height) * math.pi
        out = np.empty((height // every, width // every, 3), dtype=np.float32)
        for row in range(0, height, every):  # by a few rows: a large dome is not held twice
            weight = np.cos(elevation[row : row + every])
            rows = np.tensordot(weight / weight.sum(), rgb[row : row + every].astype(np.float64), 1)
            out[row // every] = rows.reshape(-1, every, 3).mean(axis=1) @ to_xyz.T
    return out


def _read_lights(picture: Path, beside: Path, sun_in: bool) -> Lights:
    """Dome, its middle bearing and its beams, all as the files say."""
    data = json.loads(beside.read_text())
    primaries = next(p.name for p in PRIMARIES.values()
                     if data["picture"]["colour_space"].endswith(p.title))
    beams = [] if sun_in else [(tuple(b["vector"]), tuple(b["xyz_lux"])) for b in data["beams"]]
    return Lights(_read_back(picture, primaries),
                  math.radians(data["picture"]["centre_azimuth_deg"]), tuple(beams))


def proof_numbers(lights: Lights, beams: list[dict[str, Any]]) -> dict[str, Any]:
    """What the written files give on ground and walls, in lux, and sun over sky on the ground;
    `beams` as the sidecar has them."""
    plain = [(vector, xyz[1]) for vector, xyz in lights.beams]
    found = {name: face_lux(lights.dome[..., 1], normal, lights.centre_rad)
             + beams_lux(plain, normal) for name, normal in FACES.items()}
    direct = sum(b["illuminance_lux"] * max(b["vector"][2], 0.0) for b in beams)
    return {"files": found, "sun_over_sky": direct / max(found["ground"] - direct, 1e-9)}


def _write_proof(path: Path, lights: Lights, order: DomeOrder, workers: Workers,
                 metered: Metered, numbers: dict[str, Any], cancel: Cancel) -> None:
    """The bodies under the files' light, and the numbers beside them."""
    lit = proof_picture(lights, PROOF_SIZE, workers, cancel)
    shown = develop(lit, *metered)
    width, height = PROOF_SIZE
    sheet = Image.new("RGB", (width + PANEL, height), PAPER)
    sheet.paste(Image.fromarray(np.asarray(shown, dtype=np.uint8)), (0, 0))
    draw = ImageDraw.Draw(sheet)
    font, small = ImageFont.load_default(15), ImageFont.load_default(13)
    x, y = width + 18, 20
    draw.text((x, y), order.name, INK, font)
    y += 34
    draw.text((x + 92, y), "files", INK, small)
    draw.text((x + 182, y), "renderer", INK, small)
    for face in FACES:
        y += 26
        draw.text((x, y), face, INK, small)
        for column, key in ((92, "files"), (182, "renderer")):
            draw.text((x + column, y), f"{numbers[key][face]:,.0f} lx".replace(",", " "), INK,
                      small)
    y += 40
    draw.text((x, y), f"sun : sky on the ground  {numbers['sun_over_sky']:.2f} : 1", INK, small)
    y += 26
    draw.text((x, y), "sun in the dome" if order.sun_in else "sun as a light of its own", INK,
              small)
    y += 26
    draw.text((x, y), "grey ball 18 %, mirror, white cube 80 %", INK, small)
    with whole_file(path) as part:
        sheet.save(part, "PNG")
