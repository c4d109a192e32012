"""Notices: what somebody is told, in Today and by mail."""
