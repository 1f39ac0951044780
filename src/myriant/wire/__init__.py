"""The runner protocol, version 1: its models and limits, used by the API, by runners and by whoever speaks it.

Whatever a plan may say fits into a lease, and whatever a runner can tell fits into these bodies: the limits are those
of core/plan/model.py. What is told travels in bodies, never in headers.
"""
