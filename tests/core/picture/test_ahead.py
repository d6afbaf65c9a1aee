"""What is compiled ahead is what pictures then call: no other types, no second version."""

from __future__ import annotations

from dovrek.core.picture.ahead import DONE, compile_march, compiled_share, nothing_scene
from dovrek.core.picture.calming import spread_grain
from dovrek.core.picture.sparing import bridge, find_horizon
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.march import march_pixels
from tests.conftest import sky_of


def test_the_march_is_compiled_once(studio: Studio) -> None:
    sky = sky_of(layers=[{"genus": "cirrus", "id": "a"}])
    studio.render(sky, Wish(32, 18, "hand"))
    kernels = (march_pixels, find_horizon, bridge, spread_grain)
    before = [list(kernel.signatures) for kernel in kernels]
    assert all(before)  # tests of their own may have called some with other types
    compile_march()
    assert [list(kernel.signatures) for kernel in kernels] == before and DONE.exists()
    assert 0.0 < compiled_share() <= 1.0


def test_a_scene_of_nothing_is_a_scene(studio: Studio) -> None:
    """Each part has the type and the number of dimensions of a real one's."""
    real = studio.preparer.scene(sky_of(), SKETCH, Cancel()).scene
    for name, a, b in zip(real._fields, real, nothing_scene(), strict=True):
        assert type(a) is type(b), name
        if hasattr(a, "dtype"):
            assert a.dtype == b.dtype and a.ndim == b.ndim, name
