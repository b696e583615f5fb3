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
rc-update add sshd default
)
[ $? = 0 ] || failed="$failed, "login

echo packages
(
set -e
apk add doas tmux
)
[ $? = 0 ] || failed="$failed, "packages

echo 'user ops'
(
set -e
(id ops > /dev/null 2>&1 || adduser -D -s /bin/ash ops)
printf '%s\n' 'ops:$6$saltmarsh$xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx' | chpasswd -e
mkdir -p /etc/doas.d
: > /etc/doas.d/ops.conf
chmod 0440 /etc/doas.d/ops.conf
cat > /etc/doas.d/ops.conf << 'END-OF-FILE'
permit nopass ops
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
(id mara > /dev/null 2>&1 || adduser -D -s /bin/sh mara)
printf '%s\n' 'mara:*' | chpasswd -e
(grep -q ^tides: /etc/group || addgroup tides)
addgroup mara tides
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
rc-update add cron default
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
