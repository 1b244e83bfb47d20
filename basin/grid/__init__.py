"""The staggered grid: layout, periodic wrapping, solids as face fractions, linear solver."""
