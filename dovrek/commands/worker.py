"""`dovrek worker`: this machine computes for the prints of another."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import tempfile

import click

from dovrek.commands.shared import BadInput

TRY_S = 20.0  # for a scheduler that may be starting
NICENESS = 10


@click.command()
@click.option("--scheduler", required=True, metavar="ADDRESS",
              help="Of the scheduler, like tls://10.0.0.5:8786.")
@click.option("--threads", type=click.IntRange(1, 256), default=None,
              help="Parts computed at once; the machine's cores unless set.")
@click.option("--name", default=None, help="What it is called; host and process unless set.")
def worker(scheduler: str, threads: int | None, name: str | None) -> None:
    """Compute parts of prints for a scheduler until stopped. Its release must be that of the
    machine that prints."""
    if scheduler.partition("://")[0] not in ("tcp", "tls") or "://" not in scheduler:
        raise BadInput(f"--scheduler: '{scheduler[:60]}' is no address; give one like "
                       "tls://10.0.0.5:8786")
    with contextlib.suppress(OSError):  # it works all the same, only less politely
        os.nice(NICENESS)
    said = asyncio.run(_serve(scheduler, threads or os.cpu_count() or 1, name))
    if said:
        raise BadInput(said)


async def _serve(address: str, threads: int, name: str | None) -> str:
    """Work until told to end; what was wrong, or nothing."""
    from distributed import Client, Worker

    from dovrek.prints.release import RELEASE, SAID

    try:
        async with Client(  # type: ignore[no-untyped-call]
                address, asynchronous=True, timeout=TRY_S,
                set_as_default=False) as client:
            try:
                wanted = await client.get_metadata([SAID])
            except KeyError:
                wanted = RELEASE  # nobody has printed there yet
    except Exception as error:  # it may fail in any way, a closed connection's own among them
        said = (str(error) or type(error).__name__).splitlines()[0][:120]
        return (f"--scheduler: {address} does not answer ({said}); "
                "start it, or give its address")
    if wanted != RELEASE:
        return (f"--scheduler: {address} prints with release {wanted}, this is {RELEASE}; install "
                "the same here")
    with tempfile.TemporaryDirectory(prefix="dovrek-worker-") as folder:
        made = Worker(address, nthreads=threads, name=name, memory_limit=0,
                      local_directory=folder, dashboard=False)
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, lambda: asyncio.ensure_future(made.close()))
        await made
        click.echo(f"release {RELEASE}, {threads} threads, works for {address}")
        await made.finished()  # type: ignore[no-untyped-call]
    return ""
