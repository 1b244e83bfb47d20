"""Productions, shots and takes."""
