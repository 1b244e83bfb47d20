"""Frames on disk: written whole or not at all, verified when read."""

from basin.cache.store import Cache, DamagedFrame, FrameRecord, StageBusy, StageCache, is_held, open_cache

__all__ = ["Cache", "DamagedFrame", "FrameRecord", "StageBusy", "StageCache", "is_held", "open_cache"]
