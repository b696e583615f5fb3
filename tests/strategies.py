"""Generated labs: every text here is a lab file that reads without findings of its shape."""

from __future__ import annotations

from hypothesis import strategies as st

names = st.from_regex(r"[a-z][a-z0-9]{0,7}", fullmatch=True)
comments = st.text(st.characters(codec="ascii", min_codepoint=32, max_codepoint=126), max_size=20)


@st.composite
def lab_texts(draw: st.DrawFn) -> str:
    """A lab file with comments, blank lines, and its doors and adapters written in each way TOML allows."""
    lines = ["# " + draw(comments), "[lab]", f'name = "lab"  # {draw(comments)}', ""]
    networks = draw(st.lists(names, min_size=1, max_size=3, unique=True))
    for n, name in enumerate(networks):
        lines += [f"# {draw(comments)}", f"[network.{name}]", 'kind = "nat"']
        if draw(st.booleans()):
            lines.append(f'subnet = "10.9.{n}.0/{draw(st.integers(24, 28))}"  # {draw(comments)}')
        lines.append("")
    for name in draw(st.lists(names, max_size=4, unique=True)):
        lines.append(f"[guest.{name}]" + (f"  # {draw(comments)}" if draw(st.booleans()) else ""))
        lines.append(f"cpus = {draw(st.integers(1, 8))}")
        network = draw(st.sampled_from(networks))
        lines.append(
            draw(
                st.sampled_from(
                    [
                        f'adapter = [{{ network = "{network}" }}]',
                        f'adapter = [\n  {{ network = "{network}" }},  # {draw(comments)}\n]',
                        f'adapter = {{ network = "{network}" }}',
                        f'adapter.network = "{network}"  # {draw(comments)}',
                        "",
                    ]
                )
            )
        )
        disks = draw(st.sampled_from(["none", "table", "list", "section", "sections"]))
        if disks in ("table", "list"):
            lines.append('disk = { size = "1 GiB" }' if disks == "table" else 'disk = [{ size = "1 GiB" }]')
        doors = draw(st.lists(st.sampled_from(["ssh", "http", "rdp"]), max_size=3, unique=True))
        style = draw(st.sampled_from(["dotted", "inline", "headers"]))
        if style == "dotted":
            lines += [f'door.{d} = {{ from = "host" }}  # {draw(comments)}' for d in doors]
        elif style == "inline" and doors:
            lines.append("door = { " + ", ".join(f'{d} = {{ from = "host" }}' for d in doors) + " }")
        elif style == "headers":
            for d in doors:
                lines += [f"[guest.{name}.door.{d}]", 'from = "host"']
        if disks in ("section", "sections"):
            header = f"[guest.{name}.disk]" if disks == "section" else f"[[guest.{name}.disk]]"
            lines += [f"{header}  # {draw(comments)}", 'size = "1 GiB"']
        lines.append("")
    return "\n".join(lines) + draw(st.sampled_from(["", "\n", "# the end"]))
