"""Computation without any interface: arrays in, arrays out."""
