"""Looking after one account: its name and its contacts."""
