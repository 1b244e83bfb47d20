"""Particles to level set to triangles."""
