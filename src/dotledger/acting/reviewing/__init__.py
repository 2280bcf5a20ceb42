"""Review by a person: the worklist, a sheet of it, a page on this machine."""
