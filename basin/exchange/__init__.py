"""Open formats in and out; conversions of unit and up axis happen here and nowhere else."""

from basin.exchange.formats import (
    MeshFileError,
    convert,
    read_mesh,
    read_sequence,
    sequence_files,
    sequence_names,
    write_obj,
    write_ply,
)

__all__ = [
    "MeshFileError",
    "convert",
    "read_mesh",
    "read_sequence",
    "sequence_files",
    "sequence_names",
    "write_obj",
    "write_ply",
]
