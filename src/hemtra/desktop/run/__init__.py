"""The Run workspace: a verdict per part on the running line."""
