#!/bin/sh
# Makes helpline.exe: a real Windows executable of 64 bits with a version resource, signed by a made-up publisher.
# Needs gcc, GNU ld with the i386pep emulation, python3, openssl and osslsigncode. The result is kept beside this file.
set -e
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
cd "$work"
python3 - <<'P'
import struct
def pad(b): return b + b'\0' * (-len(b) % 4)
def block(key, value, text, children=b''):
    k = (key + '\0').encode('utf-16-le')
    head = pad(b'\0' * 6 + k)
    body = pad(head + value) if children else head + value
    out = bytearray(body + children)
    struct.pack_into('<HHH', out, 0, len(out), len(value) // 2 if text else len(value), 1 if text else 0)
    return bytes(out)
strings = [('CompanyName', 'Saltmarsh Tools'), ('FileDescription', 'Helpline for remote support'), ('OriginalFilename', 'helpline.exe'), ('ProductName', 'Helpline'), ('ProductVersion', '4.2.1'), ('FileVersion', '4.2.1.0')]
table = block('040904b0', b'', True, b''.join(pad(block(k, (v + '\0').encode('utf-16-le'), True)) for k, v in strings))
fixed = struct.pack('<13I', 0xfeef04bd, 0x10000, 0x40002, 0x10000, 0x40002, 0x10000, 0x3f, 0, 4, 1, 0, 0, 0)
version = block('VS_VERSION_INFO', fixed, False, block('StringFileInfo', b'', True, table))
directory = lambda id, to: struct.pack('<IIHHHH', 0, 0, 0, 0, 0, 1) + struct.pack('<II', id, to)
tree = directory(16, 0x80000018) + directory(1, 0x80000030) + directory(0x409, 72) + struct.pack('<IIII', 0x10000 + 88, len(version), 0, 0) + version
with open('rsrc.s', 'w') as f:
    f.write('.section .rsrc,"a"\n' + '\n'.join('.byte ' + ','.join(map(str, tree[i:i + 16])) for i in range(0, len(tree), 16)) + '\n')
P
printf '.text\n.globl start\nstart: xorl %%eax, %%eax\nret\n' > main.s
gcc -c main.s -o main.o && gcc -c rsrc.s -o rsrc.o
objcopy -O pe-x86-64 main.o main.obj && objcopy -O pe-x86-64 rsrc.o rsrc.obj
ld -m i386pep -s -e start --section-start=.rsrc=0x140010000 --subsystem windows -o plain.exe main.obj rsrc.obj
openssl req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out cert.pem -days 7300 -subj "/O=Saltmarsh Tools/CN=Saltmarsh Tools Code Signing" -addext extendedKeyUsage=codeSigning 2>/dev/null
osslsigncode sign -h sha256 -certs cert.pem -key key.pem -in plain.exe -out "$here/helpline.exe" >/dev/null
cp plain.exe "$here/helpline-unsigned.exe"
python3 - "$here" <<'P'
import plistlib, sys
for variant, id, name in (('helpline', 'example.saltmarsh.helpline', 'Helpline'), ('helpline-crew', 'example.saltmarsh.helpline.crew', 'Helpline Crew')):
    info = {'CFBundleIdentifier': id, 'CFBundleName': name, 'CFBundleDisplayName': name, 'CFBundleShortVersionString': '4.2.1', 'CFBundleVersion': '4210', 'CFBundleExecutable': 'helpline', 'LSMinimumSystemVersion': '12.0', 'CFBundleDocumentTypes': [{'Name': 'session', 'Size': 3}]}
    plistlib.dump(info, open(sys.argv[1] + '/' + variant + '.xml.plist', 'wb'), fmt=plistlib.FMT_XML)
    plistlib.dump(info, open(sys.argv[1] + '/' + variant + '.binary.plist', 'wb'), fmt=plistlib.FMT_BINARY)
P
rm -rf "$work"
