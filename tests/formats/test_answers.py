"""Answer files: each against its own checker where there is one, against its published rules elsewhere, and whole
against files that a person has read."""

import html
import json
import os
import shutil
import subprocess
import tarfile
from base64 import b64encode
from io import BytesIO
from pathlib import Path
from typing import Any, cast
from xml.etree import ElementTree as Xml

import pytest
import yaml

from dacha.core.apply.answers import NOTHING, Answers
from dacha.core.apply.first_boot import FirstBoot, FirstBootAdapter, SetupFacts
from dacha.formats.answers import alpine, bsd, debian, fedora, ubuntu, windows
from dacha.formats.answers.finish import networkd, script
from dacha.formats.answers.forms import FORMS
from dacha.formats.answers.network_start import NETWORK_STARTS, menus, own_file
from dacha.formats.seed.documents import documents

GOLDEN = Path(__file__).parent / "answers"
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIGnJWTiPc5oWUtN2IGVMYcgVnUVaD8eHXMt6ZGOqHAo ops@pier"
STATIC: FirstBootAdapter = {
    "hardware_address": "02:00:00:77:04:20", "address": "10.77.4.20/24", "address6": "fd77:4::20/64",
    "gateway": "10.77.4.1", "gateway6": "fd77:4::1", "name_servers": ["10.77.4.2"],
}  # fmt: skip
SECOND: FirstBootAdapter = {
    "hardware_address": "02:00:00:77:05:20", "address": None, "address6": None, "gateway": None, "gateway6": None,
    "name_servers": [],
}  # fmt: skip
SETUP: SetupFacts = {
    "locale": "en_GB.UTF-8", "keyboard": "gb", "time_zone": "Europe/London", "update": True, "automatic_updates": True,
    "packages": ["tmux"], "services": ["cron"], "run": ["echo \"it's done\" > /root/ran", "false"],
    "files": [
        {"path": "/etc/motd", "content": "V2VsY29tZSB0byB0aGUgcGllcgo=", "mode": "644", "owner": "root"},
        {"path": "/srv/tides.bin", "content": "AAEC/w==", "mode": "0600", "owner": "mara"},
    ],
    "users": [{"name": "mara", "keys": [KEY], "groups": ["tides"], "administrator": False, "shell": "/bin/sh"}],
    "mirror": "http://10.77.4.1:3142/debian",
}  # fmt: skip
HASH = "$6$saltmarsh$" + "x" * 86


def answers(setup: SetupFacts = SETUP, adapters: tuple[FirstBootAdapter, ...] = (STATIC,), **more: Any) -> Answers:
    return Answers(
        facts={
            "uuid": "00000000-0000-4000-8000-000000000020", "host_name": "gauge",
            "full_name": "gauge.saltmarsh.internal", "system": "debian", "user": "ops", "keys": [KEY],
            "host_key": KEY.replace("ops@pier", "gauge"), "adapters": list(adapters), "setup": setup,
        },
        **{"disk": "/dev/vda", "bus": "virtio", "firmware": "bios", "host_key_private": "PRIVATE\n",
           "passwords": {"ops": HASH}, "plain": {"ops": "tide table"}, "remote_desktop": True} | more,
    )  # fmt: skip


@pytest.mark.parametrize("family", sorted(FORMS))
def test_the_answers_are_those_that_were_read(family: str) -> None:
    """DACHA_GOLDEN=write writes them anew, to be read again."""
    for name, text in FORMS[family].documents(answers()).items():
        kept = GOLDEN / family / name.replace("/", "_")
        if os.environ.get("DACHA_GOLDEN") == "write":
            kept.parent.mkdir(parents=True, exist_ok=True)
            kept.write_text(text)
        assert text == kept.read_text(), kept


def test_debian_takes_every_line(tmp_path: Path) -> None:
    for n, made in enumerate((answers(), answers(NOTHING, (SECOND,)))):
        file = tmp_path / f"{n}.cfg"
        file.write_text(debian.preseed(made))
        done = subprocess.run(["debconf-set-selections", "-c", file], capture_output=True, text=True, check=False)
        assert (done.returncode, done.stderr) == (0, "")
    assert "disable_autoconfig" not in debian.preseed(answers(NOTHING, (SECOND,)))
    assert "get_gateway string none" in debian.preseed(answers(adapters=({**STATIC, "gateway": None},)))
    assert "mirror/https/hostname string pier.example" in debian.preseed(
        answers({**SETUP, "mirror": "https://pier.example/debian"})
    )


def test_fedoras_own_parser_takes_it() -> None:
    from pykickstart.parser import KickstartParser
    from pykickstart.version import makeVersion

    for made in (answers(), answers(NOTHING, (SECOND, STATIC)), answers(disk="/dev/nvme0n1")):
        parser = KickstartParser(makeVersion("F40"), errorsAreFatal=True, missingIncludeIsFatal=True)
        parser.readKickstartFromString(fedora.kickstart(made))
        assert parser.handler.network.network[-1].device == STATIC["hardware_address"] or not made.facts["adapters"][1:]
        assert parser.handler.rootpw.lock and parser.handler.clearpart.drives == [made.disk.removeprefix("/dev/")]


@pytest.fixture(scope="module")
def cloud_schema(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """The schema that the first-boot software itself ships, from Debian's package of it."""
    folder = tmp_path_factory.mktemp("schema")
    subprocess.run(["apt-get", "download", "cloud-init"], cwd=folder, capture_output=True, check=True)
    subprocess.run(["dpkg-deb", "-x", next(folder.glob("*.deb")), folder / "x"], check=True)
    return json.loads(next((folder / "x").rglob("schema-cloud-config-v1.json")).read_text())


def test_first_boot_data_and_ubuntus_pass_its_schema(cloud_schema: Any) -> None:
    import jsonschema

    tree = yaml.safe_load(ubuntu.documents(answers())["user-data"])["autoinstall"]
    jsonschema.validate(tree["user-data"], cloud_schema)
    assert tree["storage"]["layout"]["match"] == {"path": "/dev/vda"}
    assert tree["network"]["ethernets"]["adapter0"]["match"] == {"macaddress": STATIC["hardware_address"]}
    facts = answers().facts | {"shares": [{"name": "tides", "at": "/srv/tides", "read_only": True}]}
    told = documents(cast(FirstBoot, facts), instance="one", host_key_private="PRIVATE\n", passwords={"ops": HASH})
    data = yaml.safe_load(told["user-data"])
    jsonschema.validate(data, cloud_schema)
    assert data["bootcmd"][0][3:] == ["share", "tides", "/srv/tides", "ro,nofail"]
    # An installer's end puts the same into the new system's table.
    shared = answers()._replace(facts=cast(FirstBoot, facts))
    for family in ("debian", "fedora", "alpine"):
        assert "echo 'tides /srv/tides virtiofs ro,nofail 0 0' >> /etc/fstab" in script(shared, family)
    assert "virtiofs" not in script(shared, "bsd")


def test_alpines_overlay_starts_itself_and_its_answers_are_a_shells(tmp_path: Path) -> None:
    files = alpine.overlay(alpine.documents(answers()))
    with tarfile.open(fileobj=BytesIO(files["dacha.apkovl.tar.gz"])) as archive:
        members = {m.name: m for m in archive.getmembers()}
        assert members["etc/runlevels/default/local"].linkname == "/etc/init.d/local"
        assert members["etc/local.d/dacha-install.start"].mode & 0o111
        assert members["etc/dacha/answers"].mode == 0o600
        archive.extractall(tmp_path)
    assert files == alpine.overlay(alpine.documents(answers()))
    said = subprocess.run(["sh", "-c", '. ./etc/dacha/answers; echo "$INTERFACESOPTS|$DISKOPTS"'], cwd=tmp_path,
                          capture_output=True, text=True, check=True).stdout  # fmt: skip
    assert "address 10.77.4.20/24\n\tgateway 10.77.4.1" in said and said.endswith("|-m sys /dev/vda\n")


def test_long_names_of_windows_are_cut_and_differ() -> None:
    names = [windows.computer_name(f"windows-server-{n}") for n in range(1, 30)]
    assert len(set(names)) == 29 and all(len(n) == 15 for n in names)
    assert windows.computer_name("tide-gauge") == "tide-gauge"


def test_windows_is_told_everything_in_its_place() -> None:
    root = Xml.fromstring(windows.unattend(answers(bus="sata", firmware="uefi")).partition("\n")[2])
    space = {"u": "urn:schemas-microsoft-com:unattend"}

    def texts(path: str) -> list[str | None]:
        return [e.text for e in root.findall(".//u:" + path.replace("/", "/u:"), space)]

    assert [s.get("pass") for s in root.findall("u:settings", space)] == ["windowsPE", "specialize", "oobeSystem"]
    assert texts("ImageInstall/OSImage/InstallTo/PartitionID") == ["3"] and texts("CreatePartition/Type") == [
        "EFI", "MSR", "Primary"]  # fmt: skip
    assert texts("UnicastIpAddresses/IpAddress") == ["10.77.4.20/24", "fd77:4::20/64"]
    assert texts("Routes/Route/NextHopAddress") == ["10.77.4.1", "fd77:4::1"]
    assert texts("Interface/Identifier")[0] == "02-00-00-77-04-20"
    assert texts("fDenyTSConnections") == ["false"] and texts("UserAuthentication") == ["1"]
    assert texts("TimeZone") == ["GMT Standard Time"]
    assert texts("LocalAccount/Name") == ["ops", "mara"]
    assert texts("LocalAccount/Group") == ["Administrators", "Users;Remote Desktop Users;tides"]
    assert texts("LocalAccount/Password/Value") == [windows.hidden("tide table")]
    assert texts("InputLocale") == ["0809:00000809"] * 2 and texts("UserLocale") == ["en-GB"] * 2
    assert "tide table" not in windows.unattend(answers())
    bios = Xml.fromstring(windows.unattend(answers()).partition("\n")[2])
    assert [e.text for e in bios.findall(".//u:CreatePartition/u:Type", space)] == ["Primary"]
    # From a further medium: drivers and the guest agent, before anybody logs in.
    assert texts("RunSynchronousCommand/Path") == []
    further = answers(bus="sata", firmware="uefi")._replace(further_medium=True)
    root = Xml.fromstring(windows.unattend(further).partition("\n")[2])
    drivers, agent = (str(c) for c in texts("settings/component/RunSynchronous/RunSynchronousCommand/Path"))
    assert "pnputil /add-driver %d:\\*.inf /subdirs" in drivers and 'msiexec /i "%f" /qn' in agent
    assert all(len(c) < 260 and c.endswith('& exit /b 0"') for c in (drivers, agent))
    (settings,) = [s for s in root.findall("u:settings", space) if s.find(".//u:RunSynchronous", space) is not None]
    assert settings.get("pass") == "specialize"
    none = windows.unattend(answers(NOTHING, (SECOND,), remote_desktop=False))
    assert "TCPIP" not in none and "fDenyTSConnections" not in none


@pytest.mark.parametrize("family", ["debian", "fedora", "alpine", "bsd"])
def test_a_shell_and_its_critic_take_the_script(family: str, tmp_path: Path) -> None:
    file = tmp_path / "finish.sh"
    file.write_text(script(answers(), family, network=family == "debian"))
    # What it does without is the family's own: ids of people, files that are there only then.
    done = subprocess.run(["shellcheck", "-s", "sh", "-e", "SC2181,SC2016", file], capture_output=True, text=True,
                          check=False)  # fmt: skip
    assert done.returncode == 0, done.stdout


ODD = '#!/bin/sh\necho "%end"\n%end\n%include /etc/shadow\n  #!/bin/false\nTHE-END\n\u2028\n'


@pytest.mark.parametrize("family", ["debian", "fedora", "alpine", "bsd"])
def test_no_text_of_a_setup_ends_the_part_that_it_is_in(family: str, tmp_path: Path) -> None:
    """FreeBSD's installer splits its answers at "#!", Fedora's at lines that begin with "%"."""
    place, ran = tmp_path / "tool", tmp_path / "ran"
    file = {"path": str(place), "content": b64encode(ODD.encode()).decode(), "mode": "0644", "owner": "root"}
    run = f"cat > {ran} << 'E'\n{ODD}E"
    odd = cast(SetupFacts, SETUP | {"files": [file], "run": [run], "users": [], "groups": []})
    text = script(answers(odd), family)
    wrong = [line for line in text.splitlines()[1:] if line.lstrip().startswith(("#!", "%"))]
    assert not wrong
    # What a shell makes of those lines is what was asked for.
    lines = text.splitlines()
    at = [n for n, line in enumerate(lines) if str(place) in line and "base64" in line]
    subprocess.run(["sh", "-c", lines[at[0]]], check=True)
    subprocess.run(["sh", "-c", next(x for x in lines if x.startswith('sh -c "$(printf'))], check=True)
    assert place.read_text() == ran.read_text() == ODD


def test_the_bsds_two_parts_are_told_apart() -> None:
    first, _, second = bsd.installerconfig(answers()).partition("#!/bin/sh\n")
    assert 'PARTITIONS="vtbd0 auto freebsd-ufs"' in first and second.endswith("poweroff\n")
    assert subprocess.run(["sh", "-n"], input=second, text=True, check=False).returncode == 0


@pytest.mark.skipif(os.geteuid() != 0 or not shutil.which("systemctl"), reason="needs root and systemd's programs")
def test_the_script_makes_a_debian_what_the_lab_says(tmp_path: Path) -> None:
    """On a copy-on-write view of this machine's own files, which nothing of it is written to."""
    for name in ("upper/etc/systemd/system", "work", "root", "tmpfs", "packages"):
        (tmp_path / name).mkdir(parents=True)
    subprocess.run(
        ["apt-get", "download", "-qq", "locales"], cwd=tmp_path / "packages", capture_output=True, check=True
    )
    (tmp_path / "finish.sh").write_text(script(answers(), "debian", network=True))
    inside = f"""
        set -e
        mount -t tmpfs none {tmp_path}/tmpfs
        mkdir {tmp_path}/tmpfs/upper {tmp_path}/tmpfs/work
        cd {tmp_path}
        mount -t overlay none -o lowerdir=/,upperdir=tmpfs/upper,workdir=tmpfs/work root
        cp {tmp_path}/finish.sh {tmp_path}/root/root/finish.sh
        dpkg-deb -x {tmp_path}/packages/*.deb {tmp_path}/root
        echo '# en_GB.UTF-8 UTF-8' > {tmp_path}/root/etc/locale.gen
        echo 'LANG=C' > {tmp_path}/root/etc/default/locale
        mkdir -p {tmp_path}/root/etc/ssh
        echo Include /etc/ssh/sshd_config.d/*.conf > {tmp_path}/root/etc/ssh/sshd_config
        for unit in ssh cron; do
          printf '[Service]\\nExecStart=/bin/true\\n[Install]\\nWantedBy=multi-user.target\\n' \
            > {tmp_path}/root/etc/systemd/system/$unit.service
        done
        chroot {tmp_path}/root sh /root/finish.sh
        chroot {tmp_path}/root sh -c '
          id mara; getent passwd ops mara; grep ^ops: /etc/shadow; cat /root/ran /etc/motd
          cd /home/mara; stat -c "%a %U" /srv/tides.bin .ssh/authorized_keys
          cd /etc; stat -c "%a %U" ssh/ssh_host_ed25519_key sudoers.d/90-ops
          od -An -tx1 /srv/tides.bin; cat /etc/systemd/network/10-adapter0.network /etc/resolv.conf
          cat /etc/default/locale /var/log/dacha-first-boot.log'
    """
    done = subprocess.run(["unshare", "-m", "sh", "-c", inside], capture_output=True, text=True, check=False)
    said = done.stdout
    assert "(tides)" in said and "ops:x:" in said and ":/bin/sh" in said, said + done.stderr
    assert f"ops:{HASH}:" in said and "it's done\nWelcome to the pier" in said
    assert "600 mara\n600 mara\n600 root\n440 root" in said and "00 01 02 ff" in said
    assert "\nLANG=en_GB.UTF-8\n" in said and "en_GB.UTF-8... done" in said
    assert "MACAddress=02:00:00:77:04:20" in said and "Address=fd77:4::20/64" in said and "nameserver 10.77.4.2" in said
    # The one command that fails is told, and kept nothing else from being done.
    assert said.rstrip().endswith("first boot: failed at run 2")


def test_no_network_is_written_where_nothing_is_planned() -> None:
    assert networkd([SECOND]) == []
    both = "\n".join(networkd([STATIC, SECOND]))
    assert both.count("[Match]") == 2 and "DHCP=ipv4" in both


def test_shares_by_smb_are_mounted_with_a_password_that_only_root_reads() -> None:
    share = {"name": "tides", "at": "/srv/tides", "read_only": True, "server": "10.77.4.1", "owner": 1000}
    told = answers()._replace(facts=cast(FirstBoot, answers().facts | {"shares": [share]}), share_password="high-water")
    line = (
        "//10.77.4.1/tides /srv/tides cifs "
        "ro,nofail,_netdev,x-systemd.automount,credentials=/etc/dacha-shares,uid=1000,gid=1000,vers=3.1.1,serverino 0 0"
    )
    text = documents(told.facts, instance="one", host_key_private="key", share_password="high-water")["user-data"]
    data = yaml.safe_load(text)
    assert "cifs-utils" in data["packages"] and data["runcmd"][:3] == [
        "mkdir -p /srv/tides",
        f"grep -qF '//10.77.4.1/tides /srv/tides ' /etc/fstab || echo '{line}' >> /etc/fstab",
        "mount /srv/tides",
    ]
    (secret,) = [f for f in data["write_files"] if f["path"] == "/etc/dacha-shares"]
    assert secret["permissions"] == "0600" and secret["content"] == "username=share\npassword=high-water\n"
    made = FORMS["debian"].documents(told)["preseed.cfg"]
    assert "cifs-utils" in made and "high-water" not in made
    assert line in script(told, "debian") and "/etc/dacha-shares" in script(told, "fedora")
    told = told._replace(facts=cast(FirstBoot, told.facts | {"shares": [share | {"at": "T:"}]}))
    (xml,) = FORMS["windows"].documents(told).values()
    assert r"-RemotePath '\\10.77.4.1\tides' -LocalPath 'T:'" in html.unescape(xml)


def test_a_loader_over_the_network_starts_the_installer_with_its_answers(tmp_path: Path) -> None:
    """GRUB's own checker takes its menu; each loader asks for it by names of its own, and for nothing else of the
    guest's."""
    line = NETWORK_STARTS["ubuntu"].command_line.format(
        iso="http://10.77.4.1/x.iso", answers="http://10.77.4.1/answers"
    )
    made = menus("casper/vmlinuz", ("casper/initrd", "answers/answers.cpio"), line)
    (tmp_path / "grub.cfg").write_text(made["grub.cfg"])
    subprocess.run(["grub-script-check", tmp_path / "grub.cfg"], check=True)
    odd = menus("linux", ("initrd",), "inst.repo=http://pier.example/a'b$c;{d} quiet")["grub.cfg"]
    (tmp_path / "odd.cfg").write_text(odd)
    subprocess.run(["grub-script-check", tmp_path / "odd.cfg"], check=True)
    assert "'inst.repo=http://pier.example/a'\\''b$c;{d}' quiet" in odd
    assert "'ds=nocloud;s=http://10.77.4.1/answers/'" in made["grub.cfg"]
    assert "initrd /casper/initrd /answers/answers.cpio" in made["grub.cfg"]
    assert "initrd ::casper/initrd,::answers/answers.cpio" in made["pxelinux.cfg"]
    assert f"append {line}" in made["pxelinux.cfg"]
    asked = {
        "grub.cfg": "grub.cfg", "/boot/grub/grub.cfg-01-02-73-05-ee-a7-e3": "grub.cfg", "grub/grub.cfg": "grub.cfg",
        "pxelinux.cfg/01-02-73-05-ee-a7-e3": "pxelinux.cfg", "a\\pxelinux.cfg\\default": "pxelinux.cfg",
        "/answers/preseed.cfg": "preseed.cfg", "//answers/./user-data": "user-data", "answers/..": "..",
        "answers": None, "answers/a/b": None, "linux": None, "": None, "pxelinux.cfg": None, "grub.config": None,
    }  # fmt: skip
    assert {path: own_file(path) for path in asked} == asked


FURTHER: SetupFacts = {
    **SETUP, "proxy": "http://10.77.4.1:3128", "time_servers": ["192.0.2.1"],
    "sources": [{"name": "tides", "address": "https://tides.example.org/debian", "suite": "stable",
                 "components": ["main"], "key": "LS0tLS1CRUdJTiBQR1A="}],
}  # fmt: skip


def test_sources_a_proxy_and_time_servers_are_in_every_familys_answers() -> None:
    found = answers(FURTHER)
    seed = debian.preseed(found)
    assert "mirror/http/proxy string http://10.77.4.1:3128" in seed
    # Its packages may come from a source that is known only at the end.
    assert "tmux" not in seed and "apt-get -q -y install tmux systemd-timesyncd" in script(found, "debian")
    assert "/etc/apt/sources.list.d/tides.sources" in script(found, "debian")
    kickstart = fedora.kickstart(found)
    assert "--proxy=http://10.77.4.1:3128" in kickstart and "/etc/yum.repos.d/tides.repo" in kickstart
    assert "dnf --assumeyes install tmux" in kickstart
    assert ubuntu.autoinstall(found)["proxy"] == "http://10.77.4.1:3128"
    assert ubuntu.autoinstall(found)["user-data"]["ntp"]["servers"] == ["192.0.2.1"]
    assert "PROXYOPTS=http://10.77.4.1:3128" in alpine.answer_file(found)
    assert "export HTTP_PROXY=http://10.77.4.1:3128" in bsd.installerconfig(found)
    for family in ("debian", "fedora", "alpine", "bsd"):
        assert "clock_text 192.0.2.1" in script(found, family)
    assert "sysrc ntpd_enable=YES" in script(found, "bsd")
