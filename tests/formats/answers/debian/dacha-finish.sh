#!/bin/sh
# What gauge.saltmarsh.internal should be, as the lab says it; its installer runs this once.
exec >> /var/log/dacha-first-boot.log 2>&1
failed=

echo 'host key'
(
set -e
rm -f /etc/ssh/ssh_host_*
mkdir -p /etc/ssh
: > /etc/ssh/ssh_host_ed25519_key
chmod 0600 /etc/ssh/ssh_host_ed25519_key
cat > /etc/ssh/ssh_host_ed25519_key << 'END-OF-FILE'
PRIVATE
END-OF-FILE
mkdir -p /etc/ssh
: > /etc/ssh/ssh_host_ed25519_key.pub
chmod 0644 /etc/ssh/ssh_host_ed25519_key.pub
cat > /etc/ssh/ssh_host_ed25519_key.pub << 'END-OF-FILE'
ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIGnJWTiPc5oWUtN2IGVMYcgVnUVaD8eHXMt6ZGOqHAo gauge
END-OF-FILE
)
[ $? = 0 ] || failed="$failed, "'host key'

echo login
(
set -e
mkdir -p /etc/ssh/sshd_config.d
: > /etc/ssh/sshd_config.d/10-dacha.conf
chmod 0644 /etc/ssh/sshd_config.d/10-dacha.conf
cat > /etc/ssh/sshd_config.d/10-dacha.conf << 'END-OF-FILE'
PasswordAuthentication no
KbdInteractiveAuthentication no
PermitRootLogin no
END-OF-FILE
(grep -qi '^Include.*sshd_config.d' /etc/ssh/sshd_config || (cat /etc/ssh/sshd_config.d/10-dacha.conf /etc/ssh/sshd_config > /tmp/sshd && cp /tmp/sshd /etc/ssh/sshd_config))
systemctl enable ssh
)
[ $? = 0 ] || failed="$failed, "login

echo locale
(
set -e
(grep -qs '^LANG="*en_GB.UTF-8"*$' /etc/default/locale || (sed -i 's/^# *\(en_GB.UTF-8 \)/\1/' /etc/locale.gen && locale-gen && update-locale LANG=en_GB.UTF-8))
)
[ $? = 0 ] || failed="$failed, "locale

echo 'user ops'
(
set -e
(id ops > /dev/null 2>&1 || useradd --create-home --shell /bin/bash ops)
printf '%s\n' 'ops:$6$saltmarsh$xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx' | chpasswd --encrypted
mkdir -p /etc/sudoers.d
: > /etc/sudoers.d/90-ops
chmod 0440 /etc/sudoers.d/90-ops
cat > /etc/sudoers.d/90-ops << 'END-OF-FILE'
ops ALL=(ALL:ALL) NOPASSWD: ALL
END-OF-FILE
mkdir -p /home/ops/.ssh
: > /home/ops/.ssh/authorized_keys
chmod 0600 /home/ops/.ssh/authorized_keys
cat > /home/ops/.ssh/authorized_keys << 'END-OF-FILE'
ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIGnJWTiPc5oWUtN2IGVMYcgVnUVaD8eHXMt6ZGOqHAo ops@pier
END-OF-FILE
chmod 700 /home/ops/.ssh
chown -R ops: /home/ops/.ssh
)
[ $? = 0 ] || failed="$failed, "'user ops'

echo 'user mara'
(
set -e
(id mara > /dev/null 2>&1 || useradd --create-home --shell /bin/sh mara)
printf '%s\n' 'mara:*' | chpasswd --encrypted
(getent group tides > /dev/null || groupadd tides)
usermod --append --groups tides mara
mkdir -p /home/mara/.ssh
: > /home/mara/.ssh/authorized_keys
chmod 0600 /home/mara/.ssh/authorized_keys
cat > /home/mara/.ssh/authorized_keys << 'END-OF-FILE'
ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIGnJWTiPc5oWUtN2IGVMYcgVnUVaD8eHXMt6ZGOqHAo ops@pier
END-OF-FILE
chmod 700 /home/mara/.ssh
chown -R mara: /home/mara/.ssh
)
[ $? = 0 ] || failed="$failed, "'user mara'

echo addresses
(
set -e
mkdir -p /etc/systemd/network
: > /etc/systemd/network/10-adapter0.network
chmod 0644 /etc/systemd/network/10-adapter0.network
cat > /etc/systemd/network/10-adapter0.network << 'END-OF-FILE'
[Match]
MACAddress=02:00:00:77:04:20

[Network]
Address=10.77.4.20/24
Address=fd77:4::20/64
Gateway=10.77.4.1
Gateway=fd77:4::1
DNS=10.77.4.2
END-OF-FILE
mkdir -p /etc/network
: > /etc/network/interfaces
chmod 0644 /etc/network/interfaces
cat > /etc/network/interfaces << 'END-OF-FILE'
auto lo
iface lo inet loopback
END-OF-FILE
mkdir -p /etc
: > /etc/resolv.conf
chmod 0644 /etc/resolv.conf
cat > /etc/resolv.conf << 'END-OF-FILE'
nameserver 10.77.4.2
END-OF-FILE
systemctl enable systemd-networkd
)
[ $? = 0 ] || failed="$failed, "addresses

echo /etc/motd
(
set -e
mkdir -p /etc
: > /etc/motd
chmod 0644 /etc/motd
cat > /etc/motd << 'END-OF-FILE'
Welcome to the pier
END-OF-FILE
)
[ $? = 0 ] || failed="$failed, "/etc/motd

echo /srv/tides.bin
(
set -e
mkdir -p /srv
: > /srv/tides.bin
chmod 0600 /srv/tides.bin
printf '%s' AAEC/w== | (base64 -d 2> /dev/null || openssl base64 -d -A) > /srv/tides.bin
chown mara: /srv/tides.bin
)
[ $? = 0 ] || failed="$failed, "/srv/tides.bin

echo 'service cron'
(
set -e
systemctl enable cron
)
[ $? = 0 ] || failed="$failed, "'service cron'

echo 'run 1'
(
set -e
sh -c 'echo "it'"'"'s done" > /root/ran'
)
[ $? = 0 ] || failed="$failed, "'run 1'

echo 'run 2'
(
set -e
sh -c false
)
[ $? = 0 ] || failed="$failed, "'run 2'

if [ "$failed" ]; then
  echo "first boot: failed at ${failed#, }" | tee /dev/console
else
  echo "first boot: done" | tee /dev/console
fi
