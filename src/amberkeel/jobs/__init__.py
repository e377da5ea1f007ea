"""Long work on the queue: load from the store, call core, report, save."""
