"""What takes long, and is left to ``./zinc bench --long``: published cases whose faults others notice sooner."""

LONG = "long"  # a tag
