"""Runs: what was asked for, who works on it, what became of it."""
