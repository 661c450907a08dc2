#!/bin/sh
# Collects three hosts of the demo estate over real SSH: an sshd on the loopback of this machine, a key of its own, and for each host a
# stand-in for the installed probe that prints the evidence which the demo made of it.
# usage: demo_ssh.sh [FOLDER]     needs: fidelitas in PATH, sshd, ssh, ssh-keygen; ends the sshd when it ends
set -eu
folder=${1:-demo-ssh}
mkdir -p "$folder"
folder=$(cd "$folder" && pwd)
port=${DEMO_SSH_PORT:-52230}
fidelitas demo "$folder/estate" > /dev/null 2>&1
rm -f "$folder/client" "$folder/server"
for name in client server; do ssh-keygen -q -t ed25519 -N '' -f "$folder/$name"; done
cp "$folder/client.pub" "$folder/authorized_keys"
printf '[127.0.0.1]:%s %s\n' "$port" "$(cut -d ' ' -f 1,2 "$folder/server.pub")" > "$folder/known_hosts"
cat > "$folder/sshd_config" << X
Port $port
ListenAddress 127.0.0.1
HostKey $folder/server
PidFile none
AuthorizedKeysFile $folder/authorized_keys
StrictModes no
UsePAM no
PasswordAuthentication no
X
cat > "$folder/ssh_config" << X
Host *
  HostName 127.0.0.1
  Port $port
  HostKeyAlias [127.0.0.1]:$port
  IdentityFile $folder/client
  UserKnownHostsFile $folder/known_hosts
X
printf 'format = 1\n\n[ssh]\nconfig = "ssh_config"\n\n[defaults]\nelevation = "none"\n' > "$folder/estate.toml"
for host in tern dunlin curlew; do
    printf '#!/bin/sh\nexec cat %s\n' "$folder/estate/$host.tar" > "$folder/probe-$host"
    chmod 755 "$folder/probe-$host"
    printf '\n[[host]]\nname = "%s"\ntags = ["demo"]\ncollector = "%s"\n' "$host" "$folder/probe-$host" >> "$folder/estate.toml"
done
chmod go-w "$folder/estate.toml" "$folder/ssh_config"
[ "$(id -u)" != 0 ] || mkdir -p /run/sshd
/usr/sbin/sshd -D -f "$folder/sshd_config" 2> "$folder/sshd.log" &
trap 'kill $!' EXIT
tries=0
until ssh -F "$folder/ssh_config" -o BatchMode=yes any true 2> /dev/null; do
    tries=$((tries + 1))
    [ "$tries" -lt 50 ] || { cat "$folder/sshd.log" >&2; exit 1; }
    sleep 0.1
done
fidelitas survey --estate "$folder/estate.toml" --ledger "$folder/ledger"
echo "to ask more of it: export FIDELITAS_LEDGER=$folder/ledger"
