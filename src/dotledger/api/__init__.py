"""The public calls: arguments checked once, then handed to the rooms below."""
