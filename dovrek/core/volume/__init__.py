"""Cloud as voxels: what a layer's density is on a grid of cubes, empty ones left out.

Here belong samplings of the field for other programs' volumes; no file formats, and nothing that
marches rays.
"""
