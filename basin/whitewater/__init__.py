"""Foam, spray, bubbles and mist from a cached liquid."""
