"""What is kept: rows for things people name, arrays for samples, files by content hash."""
