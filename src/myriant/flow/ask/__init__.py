"""The read side: one module or folder a screen; nothing here changes a row."""
