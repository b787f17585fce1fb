"""What a click or the list of a drawing proposes."""
