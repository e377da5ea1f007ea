"""Bodies: rigid things in a shot that move on their own, solved relative to its camera.

A body is a camera path seen from the other side: the solve of its tracks gives the camera relative to the body, and
with the camera known in the world, the body's path. Its size floats until something tells it (`size`).
"""
