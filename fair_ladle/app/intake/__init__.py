"""Bringing an MSP's data in: read whole, checked whole, loaded in one transaction or not at all."""
