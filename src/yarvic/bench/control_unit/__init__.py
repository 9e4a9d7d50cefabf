"""The simulated control unit as a process of its own: memory, supply, lock and the services it answers on the bus."""
