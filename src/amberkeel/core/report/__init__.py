"""The verdict on a solve as one self-contained page: figures, charts, findings, and what was tried."""
