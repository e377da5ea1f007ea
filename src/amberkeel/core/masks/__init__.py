"""Masks: where nothing may be found or followed. Shapes drawn and carried along, mattes, and what moves by itself."""
