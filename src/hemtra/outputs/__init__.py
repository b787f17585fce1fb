"""Outputs of a line: the I/O module over Modbus TCP, and its simulation."""
