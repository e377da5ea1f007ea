"""Repairs of a solved camera: remedies carried out as trials, compared, and the path bridged or smoothed."""
