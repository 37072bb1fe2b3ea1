"""Faults: what must change, recognised from a visit's evidence; one small file a family, all in one registry."""
