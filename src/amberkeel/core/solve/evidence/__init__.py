"""Evidence beyond the tracks: what is known of the set and of the camera's path, as terms of the adjustment."""
