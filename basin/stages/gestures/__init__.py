"""What gestures are told while a scene is set up by hand: streams, rooms, openings, pushes, and what fits."""
