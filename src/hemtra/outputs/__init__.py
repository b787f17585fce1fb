"""What goes out to a line: the I/O module over Modbus TCP, and its simulated stand-in."""
