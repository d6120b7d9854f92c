// The catalogue as a tree of containers and items, as ContentDirectory has it (ISO/IEC 29341-4-12): films, series with
// their seasons, recently added, by year, music by performer, album and genre, and each collection by itself.
#pragma once

#include <functional>
#include <memory>
#include <set>
#include <string>
#include <string_view>
#include <tl/expected.hpp>
#include <vector>

#include "library/catalogue.hpp"
#include "upnp/didl.hpp"
#include "upnp/soap.hpp"

namespace wavecrest::library {

struct ContentAsked {
    std::string object = "0";
    std::string sort;                   // sort criteria; empty: the container's own order
    std::size_t first = 0, most = 0;    // 0: as many as there are, up to kMostAtOnce
    std::set<std::string> collections;  // that may be seen
};
struct ContentFound {
    std::vector<upnp::Object> objects;
    std::size_t total = 0;
};
inline constexpr std::size_t kMostAtOnce = 500;  // those that ask for more ask again
inline constexpr std::size_t kRecent = 100;      // in "Recently added"

class Content {
  public:
    // How an item is described, with where it is to be had.
    using Describe = std::function<upnp::Object(const Item& item)>;
    using Found = tl::expected<ContentFound, upnp::Fault>;

    explicit Content(Catalogue& catalogue);
    ~Content();

    // The object itself (total 1).
    Found metadata(const ContentAsked& asked, const Describe& describe) const;
    Found children(const ContentAsked& asked, const Describe& describe) const;
    // Items below a container that fit the criteria.
    Found search(const ContentAsked& asked, std::string_view criteria, const Describe& describe) const;

    static std::string search_capabilities();
    static std::string sort_capabilities();

  private:
    struct Known;  // containers of containers, until the catalogue changes: they cost a count of all items
    Catalogue& catalogue_;
    std::unique_ptr<Known> known_;
};

// What all forms of an item have in common, without resources.
upnp::Object object_of(const Item& item);

}  // namespace wavecrest::library
