"""The real disk service over loop devices of this machine, and what people meet who may and who may not."""
