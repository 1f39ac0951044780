"""The runner protocol, version 1: enrol, claim, heartbeat, steps, log, reports, finish, source.

Everything a runner does for an attempt carries the lease's token; once the lease is lost the answer
is 409 with the type /problems/lease-lost, and nothing late is taken.
"""
