"""Opening, saving and recovering plans and stations."""
