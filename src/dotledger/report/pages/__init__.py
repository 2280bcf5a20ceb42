"""The report: one page that stands by itself."""
