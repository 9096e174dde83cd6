"""The simulated fleet: a separate process that speaks only the device protocol, over real sockets."""
