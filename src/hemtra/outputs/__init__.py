"""What goes out to a line: the I/O block over Modbus TCP, and its simulated stand-in."""
