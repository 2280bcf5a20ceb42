"""The ledger: every call and every raw answer, in an SQL database."""
