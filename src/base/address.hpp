// Where media lies, comes from or goes to, as people write it: a path of this machine, or an address of one of the
// schemes listed here (RFC 3986, 3.1). What tells schemes from one another is known in this place only; what an
// address says besides is taken apart by the module that reads from there (net/url.hpp, share/location.hpp).
#pragma once

#include <span>
#include <string>
#include <string_view>

#include "base/file.hpp"

namespace wavecrest::base {

enum class Scheme {
    path,            // a file or folder of this machine
    standard_input,  // "-"
    http,
    https,
    udp,
    rtp,
    rtmp,
    smb,
    nfs,
    unknown  // of no scheme that is listed
};

struct SchemeTraits {
    Scheme scheme = Scheme::path;
    std::string_view name;  // "http", in lower case
    // How media comes from there.
    enum class Kind {
        local,      // opened by the system
        web,        // HTTP
        datagrams,  // live: packets of a transport stream, as they arrive
        session,    // live: over a connection
        share       // files and folders of a file server
    } kind = Kind::local;
};
// Those that are written in front of "://".
std::span<const SchemeTraits> schemes();

class Address {
  public:
    Address() = default;
    // NOLINTBEGIN(google-explicit-constructor): every path and every text is an address.
    Address(std::string text);
    Address(const char* text) : Address(std::string(text)) {}
    Address(const Path& path) : Address(path.string()) {}
    // NOLINTEND(google-explicit-constructor)

    const std::string& text() const { return text_; }
    bool empty() const { return text_.empty(); }
    Scheme scheme() const { return traits_.scheme; }
    bool is_local() const { return traits_.kind == SchemeTraits::Kind::local; }
    bool is_web() const { return traits_.kind == SchemeTraits::Kind::web; }
    bool is_datagrams() const { return traits_.kind == SchemeTraits::Kind::datagrams; }
    bool is_share() const { return traits_.kind == SchemeTraits::Kind::share; }
    // Comes as it is sent, and once: it has no beginning to go back to.
    bool is_live() const { return is_datagrams() || traits_.kind == SchemeTraits::Kind::session; }

    // What it is of this machine; empty for addresses.
    Path path() const { return is_local() ? Path(text_) : Path(); }
    // Behind the scheme and "://"; all of it where there is none.
    std::string_view behind_scheme() const;
    // A name for people: the last part of a path or of a share's, an address as it is.
    std::string name() const;
    // ".mp4", of the last part; empty: it has none.
    std::string extension() const;

    bool operator==(const Address& other) const { return text_ == other.text_; }

  private:
    std::string text_;
    SchemeTraits traits_{};
};

// Of a local path that the links on the way lead to, absolute: whoever opens it by that follows none from now on.
// Others stay as they are.
Address without_links(const Address& address);
// "http, https, ...": for messages.
std::string scheme_names();
// Whether a text begins as addresses do, with any scheme: letters, digits, "+", "-" and "." in front of "://".
bool has_scheme(std::string_view text);
bool is_web_address(std::string_view text);

}  // namespace wavecrest::base
