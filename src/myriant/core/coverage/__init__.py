"""Coverage: reading reports, packing, merging, totals."""
