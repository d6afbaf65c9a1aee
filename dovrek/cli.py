"""The commands. Bad input: exit status 2 and one line naming field, fault and mend."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from dovrek import __version__
from dovrek.commands.clip import sequence
from dovrek.commands.dome import dome
from dovrek.commands.epw import epw
from dovrek.commands.forecast import forecast
from dovrek.commands.metar import metar
from dovrek.commands.shared import (
    BadInput,
    ViewName,
    at_moment,
    emit,
    parse_size,
    progress_bar,
    read_sky,
    settings_or_refusal,
)
from dovrek.commands.volume import volume
from dovrek.commands.worker import worker
from dovrek.settings import REFINED, Settings
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.sky.seen import owners_of


class Commands(click.Group):
    """Failures of our own making end with status 1 and one line."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except Exception as error:
            click.echo(f"dovrek: internal failure: {type(error).__name__}: "
                       f"{str(error).splitlines()[0] if str(error) else ''}", err=True)
            ctx.exit(1)


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__)
def main() -> None:
    """Compose whole procedural skies and print photorealistic backdrops."""


def _check_file(output: Path, depth: str, reference: bool, passes: bool, ground: str,
                primaries: str) -> None:
    """Raises BadInput for a file that cannot be written, or cannot hold what is asked for."""
    from dovrek.formats.pictures import format_of

    if not output.parent.is_dir():
        raise BadInput(f"--output: the folder {output.parent} does not exist; create it first")
    if not os.access(output.parent, os.W_OK):
        raise BadInput(f"--output: the folder {output.parent} cannot be written; choose another")
    if passes and (reference or not format_of(output).passes):
        raise BadInput("--passes: they go into OpenEXR files of the march; end the output in .exr "
                       "and leave --reference out")
    if ground != "on" and not format_of(output).transparent:
        raise BadInput(f"--ground: {output.suffix.lower()} holds no transparency; use .png, .tif "
                       "or .exr")
    if primaries != "rec709" and depth not in format_of(output).linear:
        raise BadInput(f"--primaries: {output.name} holds developed codes; use .exr, .hdr or .tif "
                       "with --bits float")


@main.command()
@click.argument("sky")
@click.option("-o", "--output", required=True, type=click.Path(path_type=Path, dir_okay=False))
@click.option("--view", type=ViewName(), default="picture", help=ViewName.said)
@click.option("--size", default=None,
              help="WxH pixels; default 960x540, domes 2048x1024, plans 1024x1024.")
@click.option("--quality", type=click.Choice(["draft", "proof", "final"]), default="proof")
@click.option("--at", "moment", default=None, help="ISO date and time instead of the sky's.")
@click.option("--seed", type=int, default=None, help="Deal all layers by another seed.")
@click.option("--bits", type=click.Choice(["8", "16", "half", "float"]), default=None)
@click.option("--scale", type=click.Choice(["exposed", "absolute"]), default="exposed",
              help="Linear files: exposed by the film, or absolute cd/m².")
@click.option("--primaries", type=click.Choice(["rec709", "ap1"]), default="rec709",
              help="Of linear files, said in their header.")
@click.option("--ground", type=click.Choice(["on", "no-land", "off", "clouds"]), default="on",
              help="off: the ground is transparent. no-land: the land alone. clouds: all but "
              "the clouds.")
@click.option("--no-sun-disc", is_flag=True, help="Leave the sun's disc out.")
@click.option("--centre", default=0.0, help="A dome's centre azimuth, degrees.")
@click.option("--extent", default=None, type=float,
              help="How far a plan reaches across, kilometres (default 40).")
@click.option("--passes", is_flag=True,
              help="OpenEXR: clouds, sky, ground, air, depth, mattes beside the beauty.")
@click.option("--reference", is_flag=True, help="The slow unbiased path tracer instead.")
@click.option("--spp", type=click.IntRange(1, 65536), default=64,
              help="Paths a pixel of the reference.")
@click.option("--clip", "clip_s", type=float, default=None, metavar="SECONDS",
              help="One frame of the motion, at that second of the clip.")
@click.option("--threads", type=click.IntRange(1, 64), default=2)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def render(sky: str, output: Path, view: str, size: str | None, quality: str, moment: str | None,
           seed: int | None, bits: str | None, scale: str, primaries: str, ground: str,
           no_sun_disc: bool, centre: float, extent: float | None, passes: bool,
           reference: bool, spp: int, clip_s: float | None, threads: int, as_json: bool) -> None:
    """Render SKY to a file; the format goes by its extension."""
    document = read_sky(sky)
    changes: dict[str, Any] = {}
    if moment is not None:
        changes["moment"] = moment
    if seed is not None:
        changes["seed"] = seed
    from dovrek.sky.changes import with_values

    try:
        document = with_values(document, changes)
    except SkyError as error:
        raise BadInput(str(error)) from None
    from dovrek.core.geometry.views import OFFERED
    from dovrek.core.picture.studio import EXTENT_KM, EXTENT_LIMITS_KM, Studio, Wish
    from dovrek.formats.kinds.format import Developing
    from dovrek.formats.pictures import FormatError, bits_for, write_picture

    try:
        depth = bits_for(output, bits, scale)
    except FormatError as error:
        raise BadInput(str(error)) from None
    _check_file(output, depth, reference, passes, ground, primaries)
    low, high = EXTENT_LIMITS_KM
    seen = OFFERED[view]
    if extent is not None and not (seen.from_above and low <= extent <= high):
        raise BadInput(f"--extent: {extent:g} is not the width of a plan; give {low:g} to "
                       f"{high:g} km with --view plan")
    if size:
        width, height = parse_size(size)
    else:
        width = seen.width
        height = max(16, round(width / seen.aspect(document.camera)))
    wish = Wish(width, height, quality, view, not no_sun_disc, ground != "off", centre,
                extent or EXTENT_KM, passes, clip_s, land=ground == "on", sky=ground != "clouds")
    if clip_s is not None and (reference or not 0.0 <= clip_s <= document.motion.length_s):
        raise BadInput(f"--clip: {clip_s:g} s is refused; give 0 to "
                       f"{document.motion.length_s:g} s, the clip's length, without --reference")
    studio = Studio(threads)
    studio.compile_ahead()
    with progress_bar(as_json, output.name) as progress:
        if reference:
            rendered = studio.trace(document, wish, spp, progress=progress)
        else:
            rendered = studio.render(document, wish, progress=progress)
    developing = Developing(*rendered.metered, depth, scale, ground != "on",  # type: ignore[arg-type]
                            primaries)
    try:
        notes = write_picture(output, rendered.light, developing, rendered.passes,
                              owners_of(b.layer.id for b in rendered.prepared.bodies))
    except FormatError as error:
        raise BadInput(str(error)) from None
    except OSError as error:
        raise BadInput(f"--output: {output} cannot be written ({error.strerror}); "
                       "free some space or choose another folder") from None
    from dovrek.formats.pictures import mean_luminance

    result = {"file": str(output), "size": [width, height], "view": view, "quality": quality,
              "seconds": rendered.seconds, "rays": rendered.rays,
              "mean_luminance_cd_m2": mean_luminance(rendered.light),
              "exposure_ev": rendered.metered.ev, "white_balance_k": rendered.metered.kelvins,
              "notes": notes}
    if reference:
        result |= {"quality": "reference", "spp": spp, "relative_noise": rendered.noise}
    if as_json:
        emit(result)
    else:
        click.echo(f"{output}  {width}×{height}  {result['quality']}  "
                   f"EV {rendered.metered.ev:.1f}  {rendered.seconds['total']:.1f} s")
    studio.close()


@main.command()
@click.argument("sky")
@click.option("--at", "moment", default=None, help="ISO date and time instead of the sky's.")
@click.option("--threads", type=click.IntRange(1, 64), default=2)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def probe(sky: str, moment: str | None, threads: int, as_json: bool) -> None:
    """Numbers about SKY: sun, light, layers, camera, advisories."""
    document = at_moment(read_sky(sky), moment)
    from dovrek.core.picture.probe import probe as measure
    from dovrek.core.picture.studio import Studio
    from dovrek.core.run.workers import Cancel

    studio = Studio(threads)
    found = measure(document, studio.preparer, Cancel())
    studio.close()
    if as_json:
        emit(found)
        return
    sun, light = found["sun"], found["sky"]
    click.echo(f"{found['moment']}  sun {sun['elevation_deg']:.1f}° at {sun['azimuth_deg']:.0f}°")
    click.echo(f"direct {sun['direct_normal_lux']:.0f} lx normal; with clouds: diffuse "
               f"{light['diffuse_horizontal_lux']:.0f}, direct "
               f"{light['direct_horizontal_lux']:.0f}, global "
               f"{light['global_horizontal_lux']:.0f} lx horizontal")
    for layer in found["layers"]:
        click.echo(f"{layer['name']}: {layer['base_m']:.0f}–{layer['top_m']:.0f} m, cover "
                   f"{layer['cover_measured_oktas']:.1f} of {layer['cover_oktas']:.1f} oktas, "
                   f"optical depth {layer['optical_depth_mean']:.1f}")
    for advisory in found["advisories"]:
        click.echo(f"{advisory['where']}: {advisory['text']} {advisory['mend']}")


main.add_command(sequence)
main.add_command(volume)
main.add_command(dome)
main.add_command(metar)
main.add_command(forecast)
main.add_command(epw)
main.add_command(worker)


@main.command()
@click.argument("sky")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def check(sky: str, as_json: bool) -> None:
    """Validate SKY and print its advisories."""
    import math

    document = read_sky(sky)
    from dovrek.core.air.sun_place import sun_place
    from dovrek.sky.advisories import advisories

    found = advisories(document, math.degrees(sun_place(document).elevation))
    if as_json:
        emit({"valid": True, "advisories": [a.data() for a in found]})
        return
    click.echo(f"{document.name}: valid, {len(document.layers)} layers")
    for advisory in found:
        click.echo(f"{advisory.where}: {advisory.text} {advisory.mend}")


@main.command()
def schema() -> None:
    """Print the JSON Schema of the sky document."""
    emit(Sky.model_json_schema())


def _listed(found: dict[str, Any], show: str | None, as_json: bool, what: str) -> None:
    """Print the names of recipes, or one of them as JSON: a starter as the sky it is."""
    if show is not None:
        if show not in found:
            raise BadInput(f"--show: there is no {what} '{show[:60]}'; use one of: "
                           f"{', '.join(found)}")
        recipe = found[show]
        emit(recipe.data()["sky"] if recipe.sky is not None else recipe.data())
        return
    if as_json:
        emit({f"{what}s": [{"slug": slug, "name": r.name, "notes": r.notes,
                            "genera": list(r.genera)} for slug, r in found.items()]})
        return
    for slug, recipe in found.items():
        click.echo(f"{slug}: {recipe.name}. {recipe.notes}")


@main.command()
@click.option("--show", default=None, metavar="NAME", help="Print one as sky JSON.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def starters(show: str | None, as_json: bool) -> None:
    """List the whole skies to start from."""
    from dovrek.sky.recipe import starters as known

    _listed(known(), show, as_json, "starter")


@main.command()
@click.option("--show", default=None, metavar="NAME", help="Print one as recipe JSON.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def recipes(show: str | None, as_json: bool) -> None:
    """List the layers that ship as recipes."""
    from dovrek.sky.recipe import layer_recipes

    _listed(layer_recipes(), show, as_json, "recipe")


def _serving(home: str | None, **given: Any) -> Settings:
    """The settings, with what options of a command say otherwise."""
    changes = {name: value for name, value in given.items() if value}
    if home:
        changes["home"] = Path(home).expanduser()
    settings = settings_or_refusal()
    settings = replace(settings, **changes)
    try:
        settings.make_folders()
    except OSError as error:
        raise BadInput(f"--home: {settings.home} cannot be made ({error.strerror}); "
                       "choose another folder") from None
    return settings


def _serve_options(command: Any) -> Any:
    for option in (
        click.option("--home", default=None, help="Folder of database, caches and prints."),
        click.option("--host", default=None, help="Address to bind, 127.0.0.1 by default."),
        click.option("--port", type=click.IntRange(1, 65535), default=None),
        click.option("--scheduler", default=None, help="Address of a dask scheduler for prints."),
        click.option("--picture-width", type=click.IntRange(320, 1920), default=None,
                     help="Width of the live picture, 960 by default; less on a slow machine."),
        click.option("--refine", type=click.Choice(REFINED), default=None,
                     help="How far the live picture is refined while a hand rests; proof by "
                          "default, less on a slow machine."),
    ):
        command = option(command)
    return command


def _run(settings: Settings, demo: bool) -> None:
    """Serve; what is the user's to mend is said as such."""
    from dovrek.store.holding import HomeHeld
    from dovrek.store.migrations import NewerStore
    from dovrek.web.server import PortTaken, run

    try:
        run(settings, demo)
    except HomeHeld as error:
        raise BadInput(f"--home: {error}; open that one, or give another folder") from None
    except NewerStore as error:
        raise BadInput(f"--home: {error}") from None
    except PortTaken as error:
        raise BadInput(f"--port: {error}; end what has it, or give another port") from None


@main.command()
@_serve_options
def serve(**given: Any) -> None:
    """Run the application."""
    _run(_serving(**given), demo=False)


@main.command()
@_serve_options
def demo(**given: Any) -> None:
    """Run the application, with the demo skies when the store is empty."""
    _run(_serving(**given), demo=True)


@main.command(hidden=True)
@_serve_options
@click.option("--parent", type=int, default=0, help="Stop when this process is gone.")
def printer(parent: int, **given: Any) -> None:
    """Work through ordered prints (started by the server)."""
    from dovrek.prints.standby import run

    run(_serving(**given), parent)


if __name__ == "__main__":
    main()
