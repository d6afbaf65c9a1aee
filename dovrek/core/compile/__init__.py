"""What makes functions kernels: decorators, their cache folder, patches of numba, shared
arithmetic, noise volumes. Touch it with the compile bench at hand; it knows nothing of skies.
"""
