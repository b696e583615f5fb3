"""Answer file for Windows, client and server: autounattend.xml (the schema of its unattended setup), which setup reads
from the root of any medium in a drive.

A local account, no online one; a disk layout for the guest's firmware; the planned addresses by hardware address;
remote desktop with network level authentication, and its firewall rule.
"""

from __future__ import annotations

import base64
from xml.etree import ElementTree as Xml

from dacha.core.apply.answers import Answers
from dacha.core.apply.first_boot import FirstBootAdapter
from dacha.core.sha256 import sha256
from dacha.formats.answers.windows_keyboards import INPUT_LOCALES
from dacha.formats.shares import smb_mounts

_SPACE = "urn:schemas-microsoft-com:unattend"
_WCM = "http://schemas.microsoft.com/WMIConfig/2002/State"
_COMMON = {"processorArchitecture": "amd64", "publicKeyToken": "31bf3856ad364e35", "language": "neutral",
           "versionScope": "nonSxS"}  # fmt: skip
# Drive letters of the second medium with drivers; setup skips those that do not exist.
_LETTERS = "DEF"
# What is installed from a further medium, before anybody logs in: every driver that this system accepts, and QEMU's
# guest agent. A medium without any is no error. (A command has at most 259 characters.)
_FROM_MEDIUM = (
    'cmd /c "for %d in (D E F G) do pnputil /add-driver %d:\\*.inf /subdirs /install & exit /b 0"',
    'cmd /c "for %d in (D E F G) do for /r %d:\\ %f in (qemu-ga*64.msi) do msiexec /i "%f" /qn /norestart & exit /b 0"',
)
# IANA time zones with this system's names for them (CLDR, windowsZones), the most common ones.
ZONES = {
    "Etc/UTC": "UTC", "Europe/London": "GMT Standard Time", "Europe/Dublin": "GMT Standard Time",
    "Europe/Lisbon": "GMT Standard Time", "Europe/Berlin": "W. Europe Standard Time",
    "Europe/Vienna": "W. Europe Standard Time", "Europe/Zurich": "W. Europe Standard Time",
    "Europe/Rome": "W. Europe Standard Time", "Europe/Amsterdam": "W. Europe Standard Time",
    "Europe/Stockholm": "W. Europe Standard Time", "Europe/Oslo": "W. Europe Standard Time",
    "Europe/Paris": "Romance Standard Time", "Europe/Madrid": "Romance Standard Time",
    "Europe/Brussels": "Romance Standard Time", "Europe/Copenhagen": "Romance Standard Time",
    "Europe/Prague": "Central Europe Standard Time", "Europe/Budapest": "Central Europe Standard Time",
    "Europe/Warsaw": "Central European Standard Time", "Europe/Athens": "GTB Standard Time",
    "Europe/Helsinki": "FLE Standard Time", "Europe/Kyiv": "FLE Standard Time",
    "Europe/Istanbul": "Turkey Standard Time",
    "Africa/Cairo": "Egypt Standard Time", "Africa/Johannesburg": "South Africa Standard Time",
    "Asia/Dubai": "Arabian Standard Time", "Asia/Kolkata": "India Standard Time",
    "Asia/Bangkok": "SE Asia Standard Time",
    "Asia/Shanghai": "China Standard Time", "Asia/Singapore": "Singapore Standard Time",
    "Asia/Tokyo": "Tokyo Standard Time", "Asia/Seoul": "Korea Standard Time",
    "Australia/Sydney": "AUS Eastern Standard Time", "Pacific/Auckland": "New Zealand Standard Time",
    "America/New_York": "Eastern Standard Time", "America/Chicago": "Central Standard Time",
    "America/Denver": "Mountain Standard Time", "America/Los_Angeles": "Pacific Standard Time",
    "America/Halifax": "Atlantic Standard Time", "America/Sao_Paulo": "E. South America Standard Time",
}  # fmt: skip


def documents(answers: Answers) -> dict[str, str]:
    """The only file of the medium."""
    return {"autounattend.xml": unattend(answers)}


def unattend(answers: Answers) -> str:
    """The file: answers by the pass of setup that reads them."""
    root = Xml.Element("unattend", {"xmlns": _SPACE, "xmlns:wcm": _WCM})
    _installer(Xml.SubElement(root, "settings", {"pass": "windowsPE"}), answers)
    _specialize(Xml.SubElement(root, "settings", {"pass": "specialize"}), answers)
    _first_logon(Xml.SubElement(root, "settings", {"pass": "oobeSystem"}), answers)
    Xml.indent(root)
    return '<?xml version="1.0" encoding="utf-8"?>\n' + Xml.tostring(root, encoding="unicode") + "\n"


def _component(settings: Xml.Element, name: str) -> Xml.Element:
    return Xml.SubElement(settings, "component", {"name": name, **_COMMON})


def _put(parent: Xml.Element, path: str, text: str) -> Xml.Element:
    """The element at a path below `parent`, created if missing, with this text."""
    for name in path.split("/"):
        found = parent.find(name)
        parent = Xml.SubElement(parent, name) if found is None else found
    parent.text = text
    return parent


def _item(parent: Xml.Element, name: str, **values: str) -> Xml.Element:
    """Append an item to a list."""
    item = Xml.SubElement(parent, name, {"wcm:action": "add"})
    for key, value in values.items():
        _put(item, key, value)
    return item


def _language(answers: Answers) -> str:
    locale = (answers.setup["locale"] or "en_US").partition(".")[0].partition("@")[0]
    return locale.replace("_", "-")


def _languages(component: Xml.Element, answers: Answers) -> None:
    """The keyboard by its layout's identifier, else as usual for the language; the formats of the language."""
    language = _language(answers)
    _put(component, "InputLocale", INPUT_LOCALES.get(answers.setup["keyboard"] or "", language))
    for key in ("SystemLocale", "UserLocale"):
        _put(component, key, language)


def _installer(settings: Xml.Element, answers: Answers) -> None:
    words = _component(settings, "Microsoft-Windows-International-Core-WinPE")
    _put(words, "SetupUILanguage/UILanguage", "en-US")
    _languages(words, answers)
    _put(words, "UILanguage", "en-US")
    drivers = _component(settings, "Microsoft-Windows-PnpCustomizationsWinPE")
    paths = Xml.SubElement(drivers, "DriverPaths")
    for n, letter in enumerate(_LETTERS, 1):
        item = _item(paths, "PathAndCredentials", Path=f"{letter}:\\")
        item.set("wcm:keyValue", str(n))
    setup = _component(settings, "Microsoft-Windows-Setup")
    disk = _item(Xml.SubElement(setup, "DiskConfiguration"), "Disk", DiskID="0", WillWipeDisk="true")
    partitions = _partitions(disk, answers.firmware)
    image = Xml.SubElement(Xml.SubElement(setup, "ImageInstall"), "OSImage")
    _item(Xml.SubElement(image, "InstallFrom"), "MetaData", Key="/IMAGE/INDEX", Value=str(answers.image))
    _put(image, "InstallTo/DiskID", "0")
    _put(image, "InstallTo/PartitionID", str(partitions))
    _put(setup, "UserData/AcceptEula", "true")
    if answers.product_key:
        _put(setup, "UserData/ProductKey/Key", answers.product_key)
    _put(setup, "UserData/ProductKey/WillShowUI", "OnError")


def _partitions(disk: Xml.Element, firmware: str) -> int:
    """The disk layout for a firmware (GPT with a system partition for UEFI), and the number of the system's
    partition."""
    create, modify = Xml.SubElement(disk, "CreatePartitions"), Xml.SubElement(disk, "ModifyPartitions")
    if firmware == "uefi":
        _item(create, "CreatePartition", Order="1", Type="EFI", Size="260")
        _item(create, "CreatePartition", Order="2", Type="MSR", Size="16")
        _item(create, "CreatePartition", Order="3", Type="Primary", Extend="true")
        _item(modify, "ModifyPartition", Order="1", PartitionID="1", Format="FAT32", Label="System")
        _item(modify, "ModifyPartition", Order="2", PartitionID="3", Format="NTFS", Label="Windows", Letter="C")
        return 3
    _item(create, "CreatePartition", Order="1", Type="Primary", Extend="true")
    _item(modify, "ModifyPartition", Order="1", PartitionID="1", Format="NTFS", Letter="C", Active="true")
    return 1


def computer_name(host_name: str) -> str:
    """The computer name: at most fifteen characters (NetBIOS, RFC 1001 section 14). A longer one is shortened, with
    four digits of its hash, so that two remain different."""
    if len(host_name) <= 15:
        return host_name
    return f"{host_name[:10].rstrip('-')}-{sha256(host_name.encode()).hexdigest()[:4]}"


def _specialize(settings: Xml.Element, answers: Answers) -> None:
    facts = answers.facts
    names = _component(settings, "Microsoft-Windows-Shell-Setup")
    _put(names, "ComputerName", computer_name(facts["host_name"]))
    _put(names, "TimeZone", ZONES.get(answers.setup["time_zone"] or "Etc/UTC", "UTC"))
    if answers.further_medium:
        deployment = Xml.SubElement(_component(settings, "Microsoft-Windows-Deployment"), "RunSynchronous")
        for n, command in enumerate(_FROM_MEDIUM, 1):
            _item(deployment, "RunSynchronousCommand", Order=str(n), Path=command)
    static = [a for a in facts["adapters"] if a["address"] or a["address6"]]
    if static:
        _addresses(settings, static)
    if answers.remote_desktop:
        server = _component(settings, "Microsoft-Windows-TerminalServices-LocalSessionManager")
        _put(server, "fDenyTSConnections", "false")
        level = _component(settings, "Microsoft-Windows-TerminalServices-RDP-WinStationExtensions")
        _put(level, "UserAuthentication", "1")
        _put(level, "SecurityLayer", "2")
        firewall = _component(settings, "Networking-MPSSVC-Svc")
        groups = Xml.SubElement(firewall, "FirewallGroups")
        rule = _item(groups, "FirewallGroup", Active="true", Group="@FirewallAPI.dll,-28752", Profile="all")
        rule.set("wcm:keyValue", "RemoteDesktop")


def _addresses(settings: Xml.Element, adapters: list[FirstBootAdapter]) -> None:
    tcpip = Xml.SubElement(_component(settings, "Microsoft-Windows-TCPIP"), "Interfaces")
    names = Xml.SubElement(_component(settings, "Microsoft-Windows-DNS-Client"), "Interfaces")
    for a in adapters:
        identifier = a["hardware_address"].replace(":", "-").upper()
        here = _item(tcpip, "Interface", Identifier=identifier)
        routes: list[tuple[str, str]] = []
        addresses = Xml.SubElement(here, "UnicastIpAddresses")
        for n, (key, gateway, everywhere) in enumerate(
            (("address", "gateway", "0.0.0.0/0"), ("address6", "gateway6", "::/0")), 1
        ):
            # The two address families are keys of one typed record.
            own, way = a[key], a[gateway]  # type: ignore[literal-required]
            if own:
                _put(here, f"Ipv{'4' if n == 1 else '6'}Settings/DhcpEnabled", "false")
                one = _item(addresses, "IpAddress")
                one.set("wcm:keyValue", str(n))
                one.text = own
            if own and way:
                routes.append((everywhere, way))
        if routes:
            table = Xml.SubElement(here, "Routes")
            for n, (prefix, hop) in enumerate(routes):
                _item(table, "Route", Identifier=str(n), Prefix=prefix, NextHopAddress=hop)
        if a["name_servers"]:
            resolver = _item(names, "Interface", Identifier=identifier)
            servers = Xml.SubElement(resolver, "DNSServerSearchOrder")
            for n, server in enumerate(a["name_servers"], 1):
                one = _item(servers, "IpAddress")
                one.set("wcm:keyValue", str(n))
                one.text = server


def _first_logon(settings: Xml.Element, answers: Answers) -> None:
    _languages(_component(settings, "Microsoft-Windows-International-Core"), answers)
    shell = _component(settings, "Microsoft-Windows-Shell-Setup")
    for key in ("HideEULAPage", "HideOnlineAccountScreens", "HideWirelessSetupInOOBE"):
        _put(shell, f"OOBE/{key}", "true")
    _put(shell, "OOBE/ProtectYourPC", "3")
    accounts = Xml.SubElement(Xml.SubElement(shell, "UserAccounts"), "LocalAccounts")
    for user in answers.users:
        plain = answers.plain.get(user["name"])
        groups = ["Administrators"] if user["administrator"] else ["Users"]
        groups += ["Remote Desktop Users"] if answers.remote_desktop and not user["administrator"] else []
        account = _item(accounts, "LocalAccount", Name=user["name"], Group=";".join([*groups, *user["groups"]]))
        if plain is not None:
            _put(account, "Password/Value", hidden(plain))
            _put(account, "Password/PlainText", "false")
    shares = [s for s in answers.facts.get("shares", ()) if "server" in s]
    commands = [*(smb_mounts.windows(s, answers.share_password) for s in shares), *answers.setup["run"]]
    if commands:
        first = Xml.SubElement(shell, "FirstLogonCommands")
        for n, command in enumerate(commands, 1):
            _item(first, "SynchronousCommand", Order=str(n), CommandLine=command)


def hidden(plain: str) -> str:
    """A password in this format's obfuscation, which is no protection: UTF-16 with a suffix, in base64."""
    return base64.b64encode(f"{plain}Password".encode("utf-16-le")).decode()
