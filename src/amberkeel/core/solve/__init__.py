"""The solver: from tracks to a camera, its lens and points, with their uncertainty."""
