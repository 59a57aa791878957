"""Names of services and their ports, one in a line, sorted by port.

From the IANA Service Name and Transport Protocol Port Number Registry (RFC 6335), as Debian's
``netbase`` 6.4 carries it in its file of 27 March 2021, and some of the registry's names that it
leaves out. Of the transports that the registry reserves for a name, those are listed that the
service's own standard uses: ``https`` is 443/tcp, and 443/udp is written as such.
"""

from __future__ import annotations

#: Where the table is from, and of which day; shown where names are listed.
SOURCE = "IANA service names, as in Debian netbase 6.4 of 2021-03-27"

TABLE = """\
tcpmux 1/tcp
echo 7/tcp+udp
discard 9/tcp+udp
systat 11/tcp
daytime 13/tcp+udp
netstat 15/tcp
qotd 17/tcp
chargen 19/tcp+udp
ftp-data 20/tcp
fsp 21/udp
ftp 21/tcp
ssh 22/tcp
telnet 23/tcp
smtp 25/tcp
time 37/tcp+udp
whois 43/tcp
domain 53/tcp+udp
bootps 67/udp
bootpc 68/udp
tftp 69/udp
gopher 70/tcp
finger 79/tcp
http 80/tcp
kerberos 88/tcp+udp
iso-tsap 102/tcp
acr-nema 104/tcp
poppassd 106/tcp
pop3 110/tcp
sunrpc 111/tcp+udp
auth 113/tcp
nntp 119/tcp
ntp 123/udp
epmap 135/tcp
netbios-ns 137/udp
netbios-dgm 138/udp
netbios-ssn 139/tcp
imap 143/tcp
imap2 143/tcp
snmp 161/udp
snmp-trap 162/tcp+udp
snmptrap 162/udp
cmip-man 163/tcp+udp
cmip-agent 164/tcp+udp
mailq 174/tcp
xdmcp 177/udp
bgp 179/tcp
smux 199/tcp
qmtp 209/tcp
z3950 210/tcp
ipx 213/udp
ptp-event 319/udp
ptp-general 320/udp
pawserv 345/tcp
zserv 346/tcp
rpc2portmap 369/tcp+udp
codaauth2 370/tcp+udp
clearcase 371/udp
ldap 389/tcp
svrloc 427/tcp+udp
https 443/tcp
snpp 444/tcp
microsoft-ds 445/tcp
kpasswd 464/tcp+udp
submissions 465/tcp
saft 487/tcp
isakmp 500/udp
biff 512/udp
exec 512/tcp
login 513/tcp
who 513/udp
shell 514/tcp
syslog 514/udp
printer 515/tcp
talk 517/udp
ntalk 518/udp
route 520/udp
gdomap 538/tcp+udp
uucp 540/tcp
klogin 543/tcp
kshell 544/tcp
dhcpv6-client 546/udp
dhcpv6-server 547/udp
afpovertcp 548/tcp
rtsp 554/tcp+udp
nntps 563/tcp
submission 587/tcp
nqs 607/tcp
asf-rmcp 623/udp
qmqp 628/tcp
ipp 631/tcp
ldaps 636/tcp
ldp 646/tcp+udp
tinc 655/tcp+udp
silc 706/tcp
kerberos-adm 749/tcp
kerberos4 750/udp+tcp
kerberos-master 751/udp+tcp
passwd-server 752/udp
krb-prop 754/tcp
moira-db 775/tcp
moira-update 777/tcp
moira-ureg 779/udp
spamd 783/tcp
netconf-ssh 830/tcp
domain-s 853/tcp+udp
supfilesrv 871/tcp
rsync 873/tcp
ftps-data 989/tcp
ftps 990/tcp
telnets 992/tcp
imaps 993/tcp
pop3s 995/tcp
socks 1080/tcp
proofd 1093/tcp
rootd 1094/tcp
rmiregistry 1099/tcp
supfiledbg 1127/tcp
skkserv 1178/tcp
openvpn 1194/tcp+udp
predict 1210/udp
rmtcfg 1236/tcp
xtel 1313/tcp
xtelw 1314/tcp
lotusnote 1352/tcp
ms-sql-s 1433/tcp
ms-sql-m 1434/udp
ingreslock 1524/tcp
datametrics 1645/tcp+udp
sa-msg-port 1646/tcp+udp
kermit 1649/tcp
groupwise 1677/tcp
l2f 1701/udp
radius 1812/udp
radius-acct 1813/udp
mqtt 1883/tcp
nfs 2049/tcp
gnunet 2086/tcp+udp
rtcm-sc104 2101/tcp+udp
zephyr-srv 2102/udp
zephyr-clt 2103/udp
zephyr-hm 2104/udp
gsigatekeeper 2119/tcp
iprop 2121/tcp
gris 2135/tcp
cvspserver 2401/tcp
venus 2430/tcp+udp
venus-se 2431/tcp+udp
codasrv 2432/tcp+udp
codasrv-se 2433/tcp+udp
mon 2583/tcp+udp
zebrasrv 2600/tcp
zebra 2601/tcp
ripd 2602/tcp
ripngd 2603/tcp
ospfd 2604/tcp
bgpd 2605/tcp
ospf6d 2606/tcp
ospfapi 2607/tcp
isisd 2608/tcp
dict 2628/tcp
f5-globalsite 2792/tcp
gsiftp 2811/tcp
gpsd 2947/tcp
gds-db 3050/tcp
icpv2 3130/udp
isns 3205/tcp+udp
iscsi-target 3260/tcp
mysql 3306/tcp
ms-wbt-server 3389/tcp+udp
nut 3493/tcp+udp
distcc 3632/tcp
daap 3689/tcp
svn 3690/tcp
suucp 4031/tcp
sysrqd 4094/tcp
sieve 4190/tcp
f5-iquery 4353/tcp
epmd 4369/tcp
remctl 4373/tcp
ntske 4460/tcp
ipsec-nat-t 4500/udp
fax 4557/tcp
hylafax 4559/tcp
iax 4569/udp
mtn 4691/tcp
radmin-port 4899/tcp
munin 4949/tcp
sip 5060/tcp+udp
sip-tls 5061/tcp+udp
xmpp-client 5222/tcp
xmpp-server 5269/tcp
cfengine 5308/tcp
mdns 5353/udp
postgresql 5432/tcp
rplay 5555/udp
freeciv 5556/tcp
nrpe 5666/tcp
nsca 5667/tcp
amqps 5671/tcp
amqp 5672/tcp+sctp
canna 5680/tcp
x11 6000/tcp
x11-1 6001/tcp
x11-2 6002/tcp
x11-3 6003/tcp
x11-4 6004/tcp
x11-5 6005/tcp
x11-6 6006/tcp
x11-7 6007/tcp
gnutella-svc 6346/tcp+udp
gnutella-rtr 6347/tcp+udp
redis 6379/tcp
sge-qmaster 6444/tcp
sge-execd 6445/tcp
mysql-proxy 6446/tcp
syslog-tls 6514/tcp
sane-port 6566/tcp
ircd 6667/tcp
babel 6696/udp
ircs-u 6697/tcp
afs3-fileserver 7000/udp
bbs 7000/tcp
afs3-callback 7001/udp
afs3-prserver 7002/udp
afs3-vlserver 7003/udp
afs3-kaserver 7004/udp
afs3-volser 7005/udp
afs3-bos 7007/udp
afs3-update 7008/udp
afs3-rmtsys 7009/udp
font-service 7100/tcp
zope-ftp 8021/tcp
http-alt 8080/tcp
tproxy 8081/tcp
omniorb 8088/tcp
puppet 8140/tcp
clc-build-daemon 8990/tcp
xinetd 9098/tcp
bacula-dir 9101/tcp
bacula-fd 9102/tcp
bacula-sd 9103/tcp
git 9418/tcp
xmms2 9667/tcp
zope 9673/tcp
webmin 10000/tcp
zabbix-agent 10050/tcp
zabbix-trapper 10051/tcp
amanda 10080/tcp
kamanda 10081/tcp
amandaidx 10082/tcp
amidxtape 10083/tcp
nbd 10809/tcp
dicom 11112/tcp
hkp 11371/tcp
sgi-cmsd 17001/udp
sgi-crsd 17002/udp
sgi-gcd 17003/udp
sgi-cad 17004/tcp
db-lsp 17500/tcp
dcap 22125/tcp
gsidcap 22128/tcp
wnn6 22273/tcp
binkp 24554/tcp
asp 27374/tcp+udp
csync2 30865/tcp
dircproxy 57000/tcp
tfido 60177/tcp
fido 60179/tcp
"""


def _read() -> dict[str, tuple[str, ...]]:
    named: dict[str, tuple[str, ...]] = {}
    for line in TABLE.splitlines():
        name, *ports = line.split(" ")
        named[name] = tuple(
            f"{port}/{transport}"
            for port, _, transports in (p.partition("/") for p in ports)
            for transport in transports.split("+")
        )
    return named


#: name → its ports, as ``low[-high]/transport``.
NAMED = _read()
