#!/bin/bash
# A private world with its own /run, /dev and /etc, in which a real journald and a real rsyslogd take what sudo and su log.
# usage: unshare --mount --propagation private bash logging_world.sh ETC LOGS ACTIONS; the accounts and policy of ETC are put over /etc.
set -eu
etc=$1 logs=$2 actions=$3
daemons=$logs/daemons
mkdir -p "$daemons/journal" "$daemons/spool"
for file in passwd group shadow sudoers nsswitch.conf; do mount --bind "$etc/$file" "/etc/$file"; done
mount --bind "$etc/sudoers.d" /etc/sudoers.d
[ -e /etc/machine-id ] || : > /etc/machine-id
echo aaaabbbbccccddddeeeeffff00002222 > "$daemons/machine-id"
mount --bind "$daemons/machine-id" /etc/machine-id
mount -t tmpfs tmpfs /run
mkdir -p /run/systemd/journal /run/log /run/lock /run/user /run/sudo/ts /var/log/journal /run/systemd/journald.conf.d
mount --bind "$daemons/journal" /var/log/journal
printf '[Journal]\nStorage=persistent\nReadKMsg=no\nAudit=no\nForwardToSyslog=yes\nSeal=no\nRateLimitBurst=0\n' > /run/systemd/journald.conf.d/test.conf
mkdir /run/dev
mount -t tmpfs -o mode=755 dev /run/dev
for node in null zero full random urandom tty; do touch "/run/dev/$node"; mount --bind "/dev/$node" "/run/dev/$node"; done
mkdir /run/dev/pts /run/dev/shm
mount --bind /dev/pts /run/dev/pts
ln -s pts/ptmx /run/dev/ptmx
ln -s /proc/self/fd /run/dev/fd
mount --move /run/dev /dev
ln -s /run/systemd/journal/dev-log /dev/log
cat > "$daemons/rsyslog.conf" <<C
global(workDirectory="$daemons/spool")
module(load="imuxsock" SysSock.Use="off")
input(type="imuxsock" Socket="/run/systemd/journal/syslog" CreatePath="on")
auth,authpriv.* action(type="omfile" file="$logs/auth.log" template="RSYSLOG_FileFormat")
auth,authpriv.* action(type="omfile" file="$logs/traditional.log" template="RSYSLOG_TraditionalFileFormat")
auth,authpriv.* action(type="omfile" file="$logs/protocol.log" template="RSYSLOG_SyslogProtocol23Format")
template(name="objects" type="list") { property(name="jsonmesg") constant(value="\n") }
auth,authpriv.* action(type="omfile" file="$logs/objects.log" template="objects")
C
rsyslogd -f "$daemons/rsyslog.conf" -i "$daemons/rsyslogd.pid"
/lib/systemd/systemd-journald > "$daemons/out" 2>&1 < /dev/null &
journald=$!
for _ in $(seq 100); do [ -S /run/systemd/journal/dev-log ] && [ -S /run/systemd/journal/syslog ] && break; sleep .1; done
status=0
"$actions" || status=$?
journalctl --sync || sleep 1
# rsyslogd has all that journald had when the last line of all has come.
logger -p authpriv.info -t last "the last line"
for _ in $(seq 100); do grep -q 'the last line' "$logs/objects.log" && break; sleep .1; done
journalctl --sync || sleep 1
journalctl --no-pager --all -o json > "$logs/journal.json"
[ ! -f "$daemons/sudo.log" ] || cp "$daemons/sudo.log" "$logs/sudo.log"
journalctl --no-pager --all -o export > "$logs/journal.export"
for form in short-iso short-full short-precise short-unix short-iso-precise json-pretty json-sse json-seq verbose short-monotonic cat; do
    TZ=UTC journalctl --no-pager --all -o "$form" > "$logs/$form.log"
done
mkdir -p "$logs/kept"
for folder in /var/log/journal /run/log/journal; do [ -z "$(find "$folder" -name '*.journal' 2> /dev/null)" ] || cp -r "$folder" "$logs/kept/"; done
kill "$journald" "$(cat "$daemons/rsyslogd.pid")"
wait "$journald" || true
exit "$status"
