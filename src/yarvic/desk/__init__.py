"""The window. The only folder that imports Qt."""
