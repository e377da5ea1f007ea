"""The computation: plates, following, solving, world and handoff, as plain functions over arrays.

Conventions, kept in every module (see docs/conventions.md):

* image: pixels, origin at the top left corner, x right, y down, pixel centres at +0.5;
* camera: x right, y down, z forward; world: right-handed, Y up, metres;
* ``world_from_camera`` is a rotation whose columns are the camera's axes in the world;
* focal length in pixels, angles in radians, frame numbers are the plate's own.
"""
