"""Stand-ins for the outside world: simulated parts and sensors. All data they make is made up."""
