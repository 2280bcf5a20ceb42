"""Options and habits that commands share."""
