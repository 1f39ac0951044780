"""Small simulated outside services that ship with it: for the demo and the tests, spoken to over HTTP only."""
