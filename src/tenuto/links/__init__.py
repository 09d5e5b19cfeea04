"""Sockets, brokers and keys that sources and sinks speak through."""
