"""The scene's coordinates and what is put into it: the datum, and objects that show slip."""
