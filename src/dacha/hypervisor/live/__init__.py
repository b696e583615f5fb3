"""Changes of a guest while it runs, by its monitor: disks, media, doors, screen, keyboard, copies, snapshots."""
