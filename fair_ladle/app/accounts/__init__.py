"""The tree of accounts: who they are, who stands above whom, and who may see them."""
