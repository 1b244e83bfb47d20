"""Open formats in and out; conversions of unit and up axis happen here and nowhere else."""

from basin.exchange.files import UnusableFile, sequence_files, sequence_names
from basin.exchange.formats import (
    convert,
    parts,
    read_camera,
    read_mesh,
    read_sequence,
    told,
    write_obj,
    write_ply,
)
from basin.exchange.images import Pictures, read_image, read_pictures

__all__ = [
    "Pictures",
    "UnusableFile",
    "convert",
    "parts",
    "read_camera",
    "read_image",
    "read_mesh",
    "read_pictures",
    "read_sequence",
    "sequence_files",
    "sequence_names",
    "told",
    "write_obj",
    "write_ply",
]
