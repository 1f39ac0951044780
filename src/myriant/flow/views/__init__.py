"""The read side: a module or a folder for each screen. Nothing here changes a row."""
