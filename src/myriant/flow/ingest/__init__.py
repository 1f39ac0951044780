"""Reports are read, results kept; the attempt has its outcome."""

ENTRANCES = ("attempts", "placing")
