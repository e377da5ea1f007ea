"""Geometry that several stages share: rotations, pixel centres, homographies and epipolar fits, model selection."""
