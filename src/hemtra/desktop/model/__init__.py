"""What the desktop shows, without Qt: the document, the tray, the selection. Views listen and repaint."""
