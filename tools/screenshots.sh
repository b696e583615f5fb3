#!/bin/sh
# Takes the pictures in docs/screenshots: each main command on the demo data, in a terminal on a virtual screen.
# Needs xterm, Xvfb and ImageMagick, and the demo's lab in a folder of its own.
set -eu
out=$(pwd)/docs/screenshots
work=$(mktemp -d)
export DACHA_STATE="$work/state" DACHA_RUN="$work/run" DACHA_SHARED="$work/shared"
# The server chooses a free display, and says which when it is ready.
Xvfb -displayfd 3 -screen 0 1280x800x24 3> "$work/display" > /dev/null 2>&1 &
screen=$!
n=0
until [ -s "$work/display" ] || [ $n -ge 100 ]; do sleep 0.1; n=$((n + 1)); done
DISPLAY=":$(cat "$work/display")"
export DISPLAY
trap 'dacha demo --remove > /dev/null 2>&1 || true; kill $screen; rm -rf "$work"' EXIT INT TERM

# shot NAME SHELL-TEXT: runs the text in a terminal and takes a picture when it has ended.
shot() {
    rm -f "$work/done"
    xterm -geometry 139x42+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#fbfaf6' -fg '#22261f' -xrm 'XTerm*color2: #1a7f37' \
        -xrm 'XTerm*color1: #b42318' -b 12 -e sh -c "cd \"$DACHA_STATE/demo\" 2> /dev/null; $2; touch '$work/done'; sleep 60" &
    terminal=$!
    n=0
    until [ -e "$work/done" ] || [ $n -ge 1800 ]; do sleep 0.1; n=$((n + 1)); done
    sleep 0.5
    import -window root "$out/$1.png"
    kill $terminal
}

# typed COMMAND...: shows a command as if it were typed, then runs it.
typed="typed() { printf '$ %s\n' \"\$*\"; \"\$@\"; }"

mkdir -p "$out"
shot demo 'dacha demo --keep'
shot status "$typed; typed dacha status; echo; typed dacha stop locker; echo; kill \$(cat '$DACHA_RUN/saltmarsh/charts.process'); sleep 1; typed dacha status; echo; typed dacha log charts"
dacha start --all --lab "$DACHA_STATE/demo/lab.toml" > /dev/null
shot host "$typed; typed dacha host"
shot guest "$typed; typed dacha snapshot add before-upgrade gauge --about 'old tide tables'; echo; typed dacha snapshot add noon gauge locker --memory; echo; typed dacha snapshot list; echo; typed dacha pause charts --save; echo; typed dacha guest copy gauge heron; echo; typed dacha status --usage"
dacha snapshot remove noon gauge locker --lab "$DACHA_STATE/demo/lab.toml" > /dev/null
dacha snapshot remove before-upgrade gauge --lab "$DACHA_STATE/demo/lab.toml" > /dev/null
dacha start charts --lab "$DACHA_STATE/demo/lab.toml" > /dev/null 2>&1
dacha guest remove heron --with-disks --lab "$DACHA_STATE/demo/lab.toml" > /dev/null
dacha apply --lab "$DACHA_STATE/demo/lab.toml" > /dev/null
export DACHA_LAB="$DACHA_STATE/demo/lab.toml"
python -m dacha.demo.router --inside 127.77.0.1 --outside 127.77.0.2 --told 203.0.113.77 > /dev/null &
router=$!
shot outside "$typed; typed dacha door add charts tides --service http --from outside --listen 127.0.0.1 | head -n 3; echo; typed dacha apply; echo; typed dacha status; echo; typed dacha trace charts tides"
shot reach "$typed; typed dacha reach; echo; typed dacha reach charts --why --from lan --from outside; echo; typed dacha reach locker --why --from lan"
dacha map --save "$out/map.png" > /dev/null
dacha door remove charts tides > /dev/null && dacha apply --no-wait > /dev/null
kill $router
dacha door add charts rdp --from host > /dev/null && dacha apply --no-wait > /dev/null
shot trace "$typed; typed dacha trace gauge; echo; typed dacha trace charts rdp"
ssh-keygen -q -t ed25519 -N '' -C mara@pier -f "$DACHA_STATE/demo/mara"
shot people "$typed; typed dacha person add mara --key mara.pub --enter gauge --from host; echo; typed dacha diff; echo; typed dacha apply --no-wait; echo; typed dacha reach --for mara; echo; typed dacha connect gauge --copy lab.toml :lab.toml; echo; typed dacha person remove mara; echo; typed dacha apply --no-wait"
rm "$DACHA_STATE/demo/"mara*
shot handout "$typed; typed dacha handout --from host --output pier; echo; typed dacha handout locker --from lan; echo; typed head -n 10 pier/saltmarsh/config"
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$out/sheet.png" \
    "file://$DACHA_STATE/demo/pier/index.html" > /dev/null 2>&1
rm -r "$DACHA_STATE/demo/pier"
dacha door remove charts rdp > /dev/null && dacha apply --no-wait > /dev/null
unset DACHA_LAB
sed -e 's/cpus = .*//' -e 's/^memory = "128 MiB"$/memroy = "128 MiB"/' -e 's/address = "10\.77\.[0-9]*\.10"/address = "10.77.5.10"/' \
    "$DACHA_STATE/demo/lab.toml" > "$work/lab.toml"
shot check "$typed; typed dacha check; echo; cd $work; typed dacha check"
dacha demo --remove > /dev/null
python -c 'from pathlib import Path; from dacha.demo import guest_image, lab; lab.write_lab(Path("'"$DACHA_STATE"'/demo"), guest_image.guest_image())'
shot apply "$typed; typed dacha apply; echo; typed dacha door add charts web --service http --from lan; echo; typed dacha apply"
iso=$(python -c 'from dacha.demo.installer_image import installer_image; print(installer_image())')
cp "$iso" "$DACHA_STATE/demo/saltmarsh-installer.iso"
export DACHA_LAB="$DACHA_STATE/demo/lab.toml"
shot install "$typed; typed dacha media add saltmarsh-installer.iso; echo; typed dacha media list; echo; typed dacha guest add tower --install saltmarsh-installer --disk 256MiB --memory 256MiB --user ops --key demo_key.pub; echo; typed dacha door add tower ssh; echo; typed dacha apply --no-wait | head -n 2; echo; sleep 6; typed dacha status tower; sleep 60; echo; typed dacha status tower; echo; typed dacha connect tower -- hostname"
shot screen "$typed; typed dacha guest add blank --disk 1MiB --memory 64MiB > /dev/null; dacha apply --no-wait > /dev/null; sleep 8; typed dacha screen blank --text; echo; typed dacha screen blank --save blank.png; echo; typed dacha screen blank --listen host"
# In a browser, the setup of a guest's firmware; the browser client's package is unpacked, not installed.
dacha guest add pole --disk 64MiB --memory 128MiB --firmware uefi > /dev/null
dacha apply --no-wait > /dev/null
n=0
until dacha screen pole --text 2> /dev/null | grep -q 'Shell>' || [ $n -ge 60 ]; do sleep 1; n=$((n + 1)); done
dacha screen pole --type 'exit\n' > /dev/null
sleep 8
(cd "$work" && apt-get download novnc > /dev/null 2>&1 && dpkg -x novnc_*.deb novnc)
DACHA_VNC_CLIENT="$work/novnc/usr/share/novnc" dacha screen pole --browser > "$work/url" &
browsing=$!
until [ -s "$work/url" ]; do sleep 0.2; done
PYTHONPATH=. python - "$(sed -n 's/^Open //p' "$work/url")" "$out/browser.png" "$work" <<'END'
import sys
from pathlib import Path
from tests.guests.browser import Browser
with Browser(Path(sys.argv[3])) as browser:
    browser.go(sys.argv[1])
    browser.until("document.getElementById('state')?.textContent", "connected")
    browser.until("document.querySelector('#display canvas').width > 300", True)
    Path(sys.argv[2]).write_bytes(browser.picture())
END
wait $browsing
dacha stop --all --force --wait 0s > /dev/null
mkdir "$work/kernel"
cp "$DACHA_STATE/demo/"demo_key* "$work/kernel"
sed -e 's/^name = .*/name = "saltmarsh-kernel"/' -e 's/^kind = .*/&\nbackend = "kernel"/' -e '/^isolated/d' \
    "$DACHA_LAB" > "$work/kernel/lab.toml"
# In a network namespace of its own, so that this host's networks stay as they are.
cat > "$work/kernel/show.sh" <<END
$typed
ip link set lo up
dacha apply --wait 60s > /dev/null
typed dacha status
echo; typed dacha caretaker status
echo; typed dacha connect gauge -- wget -qO- http://charts.saltmarsh-kernel.internal/tides.csv | head -n 5
echo; typed dacha door add charts page --service http --from lan --port 8080; echo; typed dacha apply
dacha caretaker stop > /dev/null
echo; typed nft flush ruleset; echo; typed dacha status; echo; typed dacha apply --no-wait
dacha caretaker stop > /dev/null
dacha stop --all --force --wait 0s > /dev/null
END
shot kernel "cd $work/kernel; export DACHA_LAB=$work/kernel/lab.toml; unshare -n sh show.sh"
dacha guest remove tower --with-disks > /dev/null
dacha guest remove blank --with-disks > /dev/null
dacha guest remove pole --with-disks > /dev/null
dacha apply > /dev/null
rm "$DACHA_STATE/demo/saltmarsh-installer.iso"
mkdir -p "$DACHA_STATE/demo/big" "$DACHA_STATE/demo/archives"
printf '\n[storage.big]\npath = "big"\n' >> "$DACHA_STATE/demo/lab.toml"
shot change "dacha start --all > /dev/null; $typed; typed dacha guest edit gauge --memory 160MiB --move-disk big --archive-in archives --archive-at 02:30; echo; typed dacha diff; echo; typed dacha apply; echo; typed dacha restart gauge; echo; typed dacha guest archives --make; echo; typed dacha guest archives; echo; typed dacha stop locker; echo; typed dacha status"
