# Makes a small Debian-like root folder in the working folder, as root.
set -e
mkdir -p etc/sudoers.d etc/pam.d etc/security etc/ssh/sshd_config.d etc/cron.d etc/cron.daily etc/cron.hourly etc/systemd/system etc/udev/rules.d etc/profile.d etc/apt/apt.conf.d etc/logrotate.d etc/default etc/ld.so.conf.d etc/modprobe.d etc/sysctl.d etc/polkit-1/rules.d etc/dbus-1/system.d etc/update-motd.d etc/network/if-up.d etc/kernel/postinst.d etc/rsyslog.d etc/tmpfiles.d etc/init.d etc/initramfs-tools/hooks etc/NetworkManager/dispatcher.d etc/grub.d
mkdir -p usr/bin usr/sbin usr/local/bin usr/local/sbin usr/local/lib usr/lib/x86_64-linux-gnu/security usr/lib/python3/dist-packages usr/lib/systemd/system usr/lib/udev/rules.d usr/share/polkit-1/actions usr/share/dbus-1/system-services usr/lib/modules/6.1 usr/libexec boot root/.ssh opt srv var/spool/cron/crontabs var/spool/cron/atjobs var/log/audit var/log/journal var/lib/dpkg/info var/backups var/lib run/systemd tmp home/mallory home/tomas/.ssh home/ines dev proc
ln -s usr/bin bin; ln -s usr/sbin sbin; ln -s usr/lib lib
printf 'root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1::/usr/sbin:/usr/sbin/nologin\nwww:x:33:33::/var/www:/usr/sbin/nologin\nmallory:x:1001:1001:Mallory:/home/mallory:/bin/bash\ntomas:x:1002:1002:Tomas:/home/tomas:/bin/bash\nines:x:1003:1003:Ines:/home/ines:/bin/bash\n' > etc/passwd
printf 'root:x:0:\ndaemon:x:1:\nadm:x:4:\ndisk:x:6:\nsudo:x:27:tomas\nwww:x:33:\nshadow:x:42:\nstaff:x:50:\nvideo:x:44:\ndocker:x:120:\nlxd:x:121:\nlibvirt:x:122:\ndevs:x:1100:mallory\nmallory:x:1001:\ntomas:x:1002:\nines:x:1003:\n' > etc/group
printf 'root:*:19000:0:99999:7:::\ndaemon:*:19000::::::\nwww:*:19000::::::\nmallory:$6$saltsalt$Abcdefghij0123456789:19000:0:99999:7:::\ntomas:$6$saltsalt$Abcdefghij0123456789:19000:0:99999:7:::\nines:$6$saltsalt$Abcdefghij0123456789:19000:0:99999:7:::\n' > etc/shadow; chmod 640 etc/shadow; chgrp 42 etc/shadow
printf 'root:*::\nsudo:*::tomas\ndevs:!::mallory\n' > etc/gshadow; chmod 640 etc/gshadow; chgrp 42 etc/gshadow
printf 'Defaults env_reset\nDefaults secure_path="/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"\nroot ALL=(ALL:ALL) ALL\n%%sudo ALL=(ALL:ALL) ALL\n@includedir /etc/sudoers.d\n' > etc/sudoers; chmod 440 etc/sudoers
printf 'PRETTY_NAME="Debian GNU/Linux 12 (bookworm)"\nID=debian\n' > etc/os-release; echo knot > etc/hostname
printf 'passwd: files\ngroup: files\nshadow: files\n' > etc/nsswitch.conf
printf 'SHELL=/bin/sh\nPATH=/usr/local/sbin:/usr/local/bin:/sbin:/bin:/usr/sbin:/usr/bin\n17 * * * * root cd / && run-parts --report /etc/cron.hourly\n' > etc/crontab
for s in su su-l sudo login sshd cron other passwd chsh; do printf 'auth required pam_unix.so\naccount required pam_unix.so\nsession required pam_unix.so\n' > etc/pam.d/$s; done
printf 'auth sufficient pam_rootok.so\nauth required pam_unix.so\naccount required pam_unix.so\nsession required pam_unix.so\n' > etc/pam.d/su
printf 'Include /etc/ssh/sshd_config.d/*.conf\nPermitRootLogin prohibit-password\nUsePAM yes\n' > etc/ssh/sshd_config
for p in bash dash sh vim python3.11 perl tar cp less find awk env cat tee su mount passwd sudo nano crontab systemctl make gdb curl wget; do printf '\177ELF%s' $p > usr/bin/$p; chmod 755 usr/bin/$p; done
ln -s python3.11 usr/bin/python3
for p in su mount passwd sudo; do chmod 4755 usr/bin/$p; done
for f in auth.log syslog wtmp; do echo x > var/log/$f; chmod 640 var/log/$f; done
chmod 700 root root/.ssh; chmod 1777 tmp; chmod 1730 var/spool/cron/crontabs
for u in mallory:1001 tomas:1002 ines:1003; do d=home/${u%%:*}; n=${u##*:}; echo '# rc' > $d/.bashrc; echo '# p' > $d/.profile; chown -R $n:$n $d; chmod 755 $d; done
printf 'auth,authpriv.* /var/log/auth.log\n' > etc/rsyslog.conf
printf 'ENV_SUPATH PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin\nUID_MIN 1000\nUID_MAX 60000\n' > etc/login.defs
printf '/.\n/usr/bin/python3.11\n/usr/bin/tar\n/usr/bin/perl\n/usr/bin/su\n/usr/bin/mount\n/usr/bin/passwd\n/usr/bin/sudo\n' > var/lib/dpkg/info/base.list
echo 'Package: sudo' > var/lib/dpkg/status
