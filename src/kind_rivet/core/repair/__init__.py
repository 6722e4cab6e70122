"""Making elements better: optimise, drag."""
