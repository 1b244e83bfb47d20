"""Measurements; each prints what it measured and writes it into docs/."""
