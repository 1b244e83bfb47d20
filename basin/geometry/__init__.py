"""Triangle meshes, primitives, poses and signed distances."""
