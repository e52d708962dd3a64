"""Tests state physics or a contract and drive the public calls, the command line and the examples."""
