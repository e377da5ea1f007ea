"""Several shots in one world: ties between them, and alignment by ties."""
