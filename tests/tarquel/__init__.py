"""Tarquel: a small invented prospect on high ground in the south, as other people's files would bring it, and its truth."""
