"""Accuracy and speed, measured on simulated shots and against general-purpose libraries."""
