"""What is done with a plan by hand: new characteristics, paths, patterns, anchors."""
