#!/bin/sh
# Installs the Debian packages whose programs the tests use, as root; as another user, says which are missing.
# A package that cannot be had is named; whether that fails the tests is theirs to say (it does where CI=true).
set -u
missing=
for package in "$@"; do
    case $package in
        iproute2) program=ip ;;
        acl) program=getfacl ;;
        graphviz) program=dot ;;
        attr) program=getfattr ;;
        libcap2-bin) program=setcap ;;
        openssh-server) program=sshd ;;
        procps) program=ps ;;
        rsyslog) program=rsyslogd ;;
        systemd) program=journalctl ;;
        ldap-utils) program=ldapadd ;;
        mariadb-server) program=mariadbd ;;
        postgresql-*) program=../lib/postgresql/${package#postgresql-}/bin/postgres ;;
        winbind) program=winbindd ;;
        samba-common-bin) program=net ;;
        samba* | libnss-* | libpam-* | libsasl2-* | libsss-* | sssd-*) dpkg -s "$package" >/dev/null 2>&1 || missing="$missing $package"; continue ;;  # without a program of that name
        *) program=$package ;;
    esac
    command -v "$program" >/dev/null 2>&1 || [ -x "/usr/sbin/$program" ] || missing="$missing $package"
done
[ -n "$missing" ] || exit 0
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null 2>&1; then
    echo "not installed, and some tests will be skipped:$missing (as root: apt-get install$missing)" >&2
    exit 0
fi
DEBIAN_FRONTEND=noninteractive
export DEBIAN_FRONTEND
apt-get -qq -o DPkg::Lock::Timeout=300 update >/dev/null 2>&1 || echo 'apt-get update failed; trying all the same' >&2
for package in $missing; do
    # The tests ask sssd and nslcd in namespaces of their own: this machine keeps looking accounts up, and letting them in, as it did.
    case $package in libnss-sss | libsss-sudo | libnss-ldapd | libnss-winbind | nslcd) cp -p /etc/nsswitch.conf /etc/nsswitch.conf.kept ;; esac
    apt-get -qq -o DPkg::Lock::Timeout=300 install -y --no-install-recommends "$package" >/dev/null 2>&1 ||
        echo "could not install the package $package" >&2
    [ "$package" != libpam-sss ] || pam-auth-update --package --remove sss
    [ ! -f /etc/nsswitch.conf.kept ] || mv /etc/nsswitch.conf.kept /etc/nsswitch.conf
done
exit 0
