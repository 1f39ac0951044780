"""Test results: reading reports, the identity of tests, the packed form."""
