"""Pictures of maps: colouring, palettes, pixels."""
