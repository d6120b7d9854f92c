"""UPnP by another library (GUPnP): the other end for tests of this one.

  upnp_peer.py control NAME       finds a renderer of this name, calls it, listens to it; prints JSON
  upnp_peer.py device FOLDER      is a renderer for a while
  upnp_peer.py browse NAME        finds a media server of this name, browses and searches it; prints JSON
"""
import json
import os
import sys

import gi

gi.require_version("GUPnP", "1.6")
from gi.repository import GLib, GUPnP  # noqa: E402

loop = GLib.MainLoop()
context = GUPnP.Context.new("lo", 0)
told = {"events": []}
kept = []  # proxies end their subscriptions when nobody refers to them any more


def call(service, name, given, wanted):
    action = GUPnP.ServiceProxyAction.new_from_list(name, [k for k, _ in given], [v for _, v in given])
    try:
        service.call_action(action, None)
        return action.get_result_list([k for k, _ in wanted], [t for _, t in wanted])[1]
    except GLib.Error as error:
        return "fault %d" % error.code


def control(name):
    point = GUPnP.ControlPoint.new(context, "urn:schemas-upnp-org:device:MediaRenderer:1")

    def found(_, proxy):
        if proxy.get_friendly_name() != name or "udn" in told:
            return
        told["udn"] = proxy.get_udn()
        rendering = proxy.get_service("urn:schemas-upnp-org:service:RenderingControl:1")
        transport = proxy.get_service("urn:schemas-upnp-org:service:AVTransport:1")
        kept.extend([proxy, rendering, transport])
        channel = [("InstanceID", 0), ("Channel", "Master")]

        def heard(_proxy, _variable, value, *_):
            told["events"].append(value)
            if "val=\"44\"" in value:
                loop.quit()

        def act():
            told["set"] = call(rendering, "SetVolume", channel + [("DesiredVolume", 44)], [])
            told["volume"] = call(rendering, "GetVolume", channel, [("CurrentVolume", int)])
            told["play"] = call(transport, "Play", [("InstanceID", 0), ("Speed", "1")], [])
            return False

        def introspected(service, result):
            told["actions"] = len(service.introspect_finish(result).list_actions())
            GLib.timeout_add(100, act)

        rendering.add_notify("LastChange", str, heard, None)
        rendering.set_subscribed(True)
        transport.introspect_async(None, introspected)

    point.connect("device-proxy-available", found)
    point.set_active(True)
    GLib.timeout_add(10000, loop.quit)
    loop.run()
    print(json.dumps(told))


DESCRIPTION = """<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><specVersion><major>1</major>
<minor>0</minor></specVersion><device><deviceType>urn:schemas-upnp-org:device:MediaRenderer:1</deviceType>
<friendlyName>Peer TV</friendlyName><manufacturer>M</manufacturer><modelName>Peer</modelName>
<UDN>uuid:11111111-2222-3333-4444-555555555555</UDN><serviceList><service>
<serviceType>urn:schemas-upnp-org:service:ConnectionManager:1</serviceType>
<serviceId>urn:upnp-org:serviceId:ConnectionManager</serviceId><SCPDURL>/cm.xml</SCPDURL><controlURL>/cm/c</controlURL>
<eventSubURL>/cm/e</eventSubURL></service><service>
<serviceType>urn:schemas-upnp-org:service:AVTransport:1</serviceType>
<serviceId>urn:upnp-org:serviceId:AVTransport</serviceId><SCPDURL>/avt.xml</SCPDURL><controlURL>/avt/c</controlURL>
<eventSubURL>/avt/e</eventSubURL></service></serviceList></device></root>"""


def scpd(actions):
    text = '<?xml version="1.0"?><scpd xmlns="urn:schemas-upnp-org:service-1-0"><specVersion><major>1</major>' \
           "<minor>0</minor></specVersion><actionList>"
    for name, arguments in actions.items():
        text += "<action><name>%s</name><argumentList>" % name
        for argument, direction in arguments:
            text += "<argument><name>%s</name><direction>%s</direction><relatedStateVariable>X</relatedStateVariable>" \
                    "</argument>" % (argument, direction)
        text += "</argumentList></action>"
    return text + '</actionList><serviceStateTable><stateVariable sendEvents="no"><name>X</name>' \
                  "<dataType>string</dataType></stateVariable></serviceStateTable></scpd>"


def device(folder):
    for name, text in (
        ("d.xml", DESCRIPTION),
        ("cm.xml", scpd({"GetProtocolInfo": [("Source", "out"), ("Sink", "out")]})),
        ("avt.xml", scpd({"Stop": [("InstanceID", "in")], "Play": [("InstanceID", "in"), ("Speed", "in")],
                          "SetAVTransportURI": [("InstanceID", "in"), ("CurrentURI", "in"),
                                                ("CurrentURIMetaData", "in")]})),
    ):
        with open(os.path.join(folder, name), "w", encoding="utf-8") as file:
            file.write(text)
    root = GUPnP.RootDevice.new(context, "d.xml", folder)

    def protocol_info(_, action):
        action.set_value("Source", "")
        action.set_value("Sink", "http-get:*:video/mp4:*,http-get:*:audio/flac:*")
        action.return_success()

    def set_address(_, action):
        print("given " + action.get_value("CurrentURI", str), flush=True)
        print("about " + action.get_value("CurrentURIMetaData", str), flush=True)
        action.return_success()

    def refuse(_, action):
        action.return_error(716, "Resource Not Found")

    services = {s.get_service_type(): s for s in root.list_services()}
    manager = services["urn:schemas-upnp-org:service:ConnectionManager:1"]
    transport = services["urn:schemas-upnp-org:service:AVTransport:1"]
    manager.connect("action-invoked::GetProtocolInfo", protocol_info)
    transport.connect("action-invoked::SetAVTransportURI", set_address)
    transport.connect("action-invoked::Play", refuse)
    root.set_available(True)
    print("ready", flush=True)
    GLib.timeout_add(25000, loop.quit)
    loop.run()


def browse(name):
    gi.require_version("GUPnPAV", "1.0")
    from gi.repository import GUPnPAV

    point = GUPnP.ControlPoint.new(context, "urn:schemas-upnp-org:device:MediaServer:1")
    page = [("Filter", "*"), ("StartingIndex", 0), ("RequestedCount", 0), ("SortCriteria", "")]
    wanted = [("Result", str), ("NumberReturned", int), ("TotalMatches", int), ("UpdateID", int)]

    def objects(answer):
        if isinstance(answer, str):
            return answer
        listed = []
        parser = GUPnPAV.DIDLLiteParser.new()
        parser.connect("object-available", lambda _, one: listed.append(one))
        parser.parse_didl(answer[0])
        return listed

    def titles(answer):
        listed = objects(answer)
        return listed if isinstance(listed, str) else [one.get_title() for one in listed]

    def found(_, proxy):
        if proxy.get_friendly_name() != name or kept:
            return
        directory = proxy.get_service("urn:schemas-upnp-org:service:ContentDirectory:1")
        kept.extend([proxy, directory])

        def children(which):
            return call(directory, "Browse", [("ObjectID", which), ("BrowseFlag", "BrowseDirectChildren")] + page, wanted)

        def search(criteria):
            return call(directory, "Search", [("ContainerID", "0"), ("SearchCriteria", criteria)] + page, wanted)

        def introspected(service, result):
            told["actions"] = len(service.introspect_finish(result).list_actions())
            for which in ("0", "films", "episodes"):
                told[which] = titles(children(which))
            told["found"] = titles(search('dc:title contains "fog" and upnp:class derivedfrom "object.item.videoItem"'))
            told["wrong"] = search("nonsense")
            told["resources"] = [{"type": r.get_protocol_info().get_mime_type(), "size": r.get_size64(),
                                  "width": r.get_width()} for r in objects(children("films"))[0].get_resources()]
            loop.quit()

        directory.introspect_async(None, introspected)

    point.connect("device-proxy-available", found)
    point.set_active(True)
    GLib.timeout_add(10000, loop.quit)
    loop.run()
    print(json.dumps(told))


if sys.argv[1] == "control":
    control(sys.argv[2])
elif sys.argv[1] == "browse":
    browse(sys.argv[2])
else:
    device(sys.argv[2])
