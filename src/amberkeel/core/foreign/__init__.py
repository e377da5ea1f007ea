"""The one door for files that others made: they are read in a process of their own, which may not take much.

A function that reads such a file is marked `guarded`. Whoever calls it, page, job or command line, gets what it returns
or a refusal in words. The reading is done by a child that has a limit of memory and of time, sees nothing of the disk
but the program, the file and a folder of its own, and hands back plain data. What a decoder does to it, from a crash to
a loop without end, happens to that child alone.
"""

from amberkeel.core.foreign.door import Limits, guarded

__all__ = ["Limits", "guarded"]
