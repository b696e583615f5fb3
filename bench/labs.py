"""Generated labs for the benches, and how a bench ends."""

from __future__ import annotations


def generate(*, guests: int, networks: int, doors: int, files: bool = True) -> str:
    """A lab file: `doors` doors a guest, guests spread over the networks, every address and port stated."""
    lines = ["# A generated lab.", "[lab]", 'name = "generated"', ""]
    for n in range(networks):
        lines += [
            f"[network.net{n}]",
            'kind = "nat"',
            f'subnet = "10.{100 + n // 250}.{n % 250}.0/24"',
            "isolated = true",
            "",
        ]
    services = ("ssh", "http", "rdp")
    for g in range(guests):
        net, host = g % networks, 10 + g // networks
        lines += [
            f"[guest.guest{g}]                  # number {g}",
            'system = "debian"',
            "cpus = 1",
            'memory = "16 MiB"',
            'disk = [{ size = "1 MiB" }]',
            f'adapter = [{{ network = "net{net}", address = "10.{100 + net // 250}.{net % 250}.{host}" }}]',
            'login = { user = "ops", keys = [] }' if files else "",
        ]
        for d in range(doors):
            lines.append(f'door.{services[d % 3]} = {{ from = "host", port = {20000 + g * doors + d} }}')
        lines.append("")
    return "\n".join(lines)


def install_bytecode() -> None:
    """Compile the package as pip does when it installs one; an editable checkout has not been compiled so."""
    import compileall
    from pathlib import Path

    import dacha

    compileall.compile_dir(Path(dacha.__file__).parent, quiet=2)


def verdict(figure: str, limit: str, held: bool) -> int:
    """Print the last line of a bench and return its exit code."""
    print(f"{figure}, {limit}: {'holds' if held else 'falls short'}")
    return 0 if held else 1
