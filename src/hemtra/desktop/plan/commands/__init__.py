"""Commands on a plan: new characteristics, paths, patterns, anchors."""
