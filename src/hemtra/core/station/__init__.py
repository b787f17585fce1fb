"""The station: sensors, transport and what they can resolve."""
