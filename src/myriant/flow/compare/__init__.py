"""What a cell is compared with and may have: baselines, what is not counted, what was removed, grants, supply."""
