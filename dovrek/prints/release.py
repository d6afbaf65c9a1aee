"""Which release computes: two whose kernels differ make other pixels, and never share a print."""

from __future__ import annotations

from typing import Any

from distributed import Client

from dovrek import __version__
from dovrek.core.compile.kernels import FOLDER

RELEASE = f"{__version__} ({FOLDER.name[:10]})"  # the folder of kernels is named after their source
SAID = "dovrek-release"  # under what a scheduler keeps the release that prints


def release_here() -> str:
    """The release of the process that runs this."""
    return RELEASE


def of_workers(client: Client) -> dict[str, str]:
    """Releases of a scheduler's workers by their addresses; of one that cannot tell, what it lacks.
    Raises OSError, TimeoutError."""
    found: dict[str, Any] = client.run(release_here, on_error="return")
    return {address: said if isinstance(said, str) else f"none: {said}"
            for address, said in found.items()}
