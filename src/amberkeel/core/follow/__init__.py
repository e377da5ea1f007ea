"""Finding features and following them."""

from amberkeel.core.follow.detect import DetectSettings, find_features
from amberkeel.core.follow.follow import FollowSettings, follow_plate

__all__ = ["DetectSettings", "FollowSettings", "find_features", "follow_plate"]
