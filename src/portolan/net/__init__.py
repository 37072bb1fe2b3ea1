"""The way of a packet: addresses, routes, forwards, filters, groups, listeners, and the reply's way back."""
