"""The scene: one document that says all that a take depends on."""

from basin.scene.advice import Advice, Remedy, Show, advised
from basin.scene.document import SceneError, load_scene, parse_scene, scene_schema
from basin.scene.model import Collider, Delivery, Domain, Drain, Fill, Force, Inflow, Scene

__all__ = [
    "Advice",
    "Collider",
    "Delivery",
    "Domain",
    "Drain",
    "Fill",
    "Force",
    "Inflow",
    "Remedy",
    "Scene",
    "SceneError",
    "Show",
    "advised",
    "load_scene",
    "parse_scene",
    "scene_schema",
]
