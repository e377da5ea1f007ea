"""The plate: image sequences and video, decoded, and the tracking copy."""
