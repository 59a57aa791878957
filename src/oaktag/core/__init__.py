"""Pure computation: no files, no printing, no sockets."""
