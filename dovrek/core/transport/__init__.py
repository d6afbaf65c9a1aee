"""Light along rays through a frozen scene: spans, look-ups, shadow rays, the march, its passes,
light on the ground, and the path tracer that is the truth. Kernels alone; nothing here reads a
document.
"""
