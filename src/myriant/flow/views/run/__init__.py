"""A run, its verdict, what its commit changed, its results for other programs."""
