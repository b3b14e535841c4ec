"""PE files, manifests, API sets and the registry's hives."""
