"""The mesh as a frozen value of flat arrays."""
