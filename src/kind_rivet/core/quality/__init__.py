"""Element metrics, limit sheets, the quality index."""
