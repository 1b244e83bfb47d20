"""The particle-grid liquid, one module per step of the algorithm; `step` reads like its box."""
