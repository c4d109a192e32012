"""What the servers of this installation are doing: for the operator's page and for Prometheus."""
