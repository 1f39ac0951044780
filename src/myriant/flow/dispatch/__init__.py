"""A runner takes a cell: claim, lease, heartbeat, loss."""
