"""The CAD kernel: reading, facets, building and editing. Nothing outside this package imports it."""
