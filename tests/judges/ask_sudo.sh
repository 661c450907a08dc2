#!/bin/sh
# Runs a command with a private /etc made of a copy of this machine's and the files in a folder, so that real sudo and the program
# under test see the same policy and accounts, and nothing of this machine is changed.
#
#   ask_sudo.sh FOLDER COMMAND [ARGUMENT]...
#
# FOLDER/etc is laid over the copy; owners are set to root, modes are kept.
set -eu
folder=$1
shift
exec unshare --mount sh -eu -c '
folder=$1
shift
mkdir -p "$folder/private"
cp -a /etc/. "$folder/private/"
rm -rf "$folder/private/sudoers.d"
cp -a "$folder/etc/." "$folder/private/"
chown -R 0:0 "$folder/private/sudoers" "$folder/private/sudoers.d"; chmod 755 "$folder/private"
mount --bind "$folder/private" /etc
exec "$@"
' sh "$folder" "$@"
