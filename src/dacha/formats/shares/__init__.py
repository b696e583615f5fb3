"""What serves shared folders by SMB reads, and what mounts them."""
