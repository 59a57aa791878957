"""A real small network on this machine: namespaces, tags in frames, feeds, lists, probes."""
