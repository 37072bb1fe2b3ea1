"""A fuzzer of everything that Portolan reads."""
