"""What several workspaces are made of."""
