"""Taking back what is idle: policies of a branch, a notice first, then a run that is listed and can be taken back."""
