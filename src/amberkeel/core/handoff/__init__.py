"""What leaves: documents, tables and scene files of a solve, and tables of tracks."""
