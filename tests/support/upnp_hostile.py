"""Devices that nobody wants in a network: answers searches with what must not be followed, and serves what must not be
read to its end. Writes who asked for what to standard output.

  upnp_hostile.py ADDRESS OTHER       ADDRESS is this host's, OTHER that of another one, which must not be asked
"""
import socket
import struct
import sys
import threading
import time

address, other = sys.argv[1], sys.argv[2]
SEARCH = "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=1800\r\nEXT:\r\nLOCATION: %s\r\nSERVER: x\r\nST: upnp:rootdevice\r\n" \
         "USN: uuid:%s::upnp:rootdevice\r\n\r\n"


def description(name, control):
    return ('<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><device>'
            "<deviceType>urn:schemas-upnp-org:device:MediaRenderer:1</deviceType><friendlyName>%s</friendlyName>"
            "<UDN>uuid:%s</UDN><serviceList>"
            "<service><serviceType>urn:schemas-upnp-org:service:ConnectionManager:1</serviceType><serviceId>a</serviceId>"
            "<SCPDURL>/s</SCPDURL><controlURL>%s</controlURL><eventSubURL>/e</eventSubURL></service>"
            "<service><serviceType>urn:schemas-upnp-org:service:AVTransport:1</serviceType><serviceId>b</serviceId>"
            "<SCPDURL>/s</SCPDURL><controlURL>/avt</controlURL><eventSubURL>/e</eventSubURL></service>"
            "</serviceList></device></root>") % (name, name, control)


FAULT = ('<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Client</faultcode>'
         "<faultstring>UPnPError</faultstring><detail><UPnPError><errorCode>501</errorCode><errorDescription>no"
         "</errorDescription></UPnPError></detail></s:Fault></s:Body></s:Envelope>")


def serve(connection):
    request = connection.recv(65536).decode(errors="replace")
    path = request.split(" ")[1] if " " in request else ""
    print("asked " + path, flush=True)

    def reply(body, status="200 OK", more=""):
        connection.sendall(("HTTP/1.1 %s\r\nContent-Type: text/xml\r\nContent-Length: %d\r\n%sConnection: close\r\n\r\n%s" %
                            (status, len(body), more, body)).encode())

    try:
        if path == "/endless":
            connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\n\r\n<root>")
            while True:
                connection.sendall(b"<x/>" * 10000)
        elif path == "/slow":
            connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n")
            while True:
                connection.sendall(b"<")
                time.sleep(0.5)
        elif path == "/silent":
            time.sleep(60)
        elif path == "/bomb":
            reply('<?xml version="1.0"?><!DOCTYPE r [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]>'
                  "<root><device><friendlyName>&b;</friendlyName></device></root>")
        elif path == "/redirect":
            reply("", "302 Found", "Location: http://%s:8000/d.xml\r\n" % other)
        elif path == "/elsewhere":
            reply(description("elsewhere", "http://%s:8000/control" % other))
        elif path == "/fault":
            reply(description("fault", "/control"))
        elif path == "/escape":
            reply(description("\x1b[2Jescape\u202e", "/control").replace("\x1b", "&#27;"))
        elif path == "/broken":
            reply("<root><device><friendlyName>x")
        else:
            reply(FAULT, "500 Internal Server Error")
    except OSError:
        pass
    connection.close()


def http():
    listening = socket.create_server((address, 8000))
    print("ready", flush=True)
    while True:
        connection, _ = listening.accept()
        threading.Thread(target=serve, args=(connection,), daemon=True).start()


threading.Thread(target=http, daemon=True).start()
group = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
group.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
group.bind(("", 1900))
group.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP,
                 struct.pack("4s4s", socket.inet_aton("239.255.255.250"), socket.inet_aton(address)))
while True:
    text, asker = group.recvfrom(2000)
    if not text.startswith(b"M-SEARCH"):
        continue
    for path in ("endless", "slow", "silent", "bomb", "redirect", "elsewhere", "fault", "escape", "broken", "fault"):
        group.sendto((SEARCH % ("http://%s:8000/%s" % (address, path), path)).encode(), asker)
    group.sendto((SEARCH % ("http://%s:8000/stolen" % other, "stolen")).encode(), asker)
    group.sendto((SEARCH % ("http://127.0.0.1:8000/stolen", "loop")).encode(), asker)
    group.sendto((SEARCH % ("file:///etc/passwd", "file")).encode(), asker)
    group.sendto(b"HTTP/1.1 200 OK\r\n" + b"x" * 1900, asker)
    group.sendto(b"\x00\xff" * 700, asker)
