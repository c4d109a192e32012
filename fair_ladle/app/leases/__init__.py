"""Sessions of concurrent use: leased, kept alive by heartbeats, one a person."""
