"""Light within one layer, on nested grids: extinction of cells, depth toward the sun, diffusion.

It knows density and phase functions, and nothing of air, views or other scenes.
"""
