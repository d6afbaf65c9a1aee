"""Prints: tiles on dask workers, kept on disk, put together into files."""
