"""From sheets to shell elements: divisions, patches, regular and free regions, washers."""
