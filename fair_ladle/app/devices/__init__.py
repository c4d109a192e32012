"""Devices that activate by a key and report, and keys to activate with."""
