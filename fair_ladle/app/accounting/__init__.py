"""Statements for other systems: journal, tax, cost rows, e-invoices, and all documents of a month."""
