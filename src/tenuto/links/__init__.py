"""Sockets, brokers and keys for sources and sinks."""
