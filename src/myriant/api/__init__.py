"""HTTP: routers by resource, authentication, live events; no logic."""
