"""What layers give: accounts and groups that give products to their people, and the queue where seats are short."""
