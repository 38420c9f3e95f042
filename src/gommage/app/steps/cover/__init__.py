"""The Cover step: covers and hold-outs, their parts, edges and keys."""
