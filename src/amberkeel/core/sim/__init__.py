"""A simulated film camera: textured sets rendered with known cameras, mattes and points.

Used for the demo production and by tests and benchmarks. Nothing in following or solving reads its truth.
"""
