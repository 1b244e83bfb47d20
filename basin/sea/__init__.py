"""Spectral seas: what waves a wind makes, the water's surface and motion by transforms, and the foam on it."""
