"""QEMU through its public interfaces: command line, QMP, guest agent, images."""
