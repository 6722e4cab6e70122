"""Every reader and writer."""
