"""The window: the only place that imports PySide6 and VTK rendering."""
