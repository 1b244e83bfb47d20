"""The stages: their order, keys, the run loop, the forecast and what the studio needs of the rest."""
