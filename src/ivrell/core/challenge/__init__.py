"""Trying to break a conclusion: what of the data and the conditions it hangs on."""
