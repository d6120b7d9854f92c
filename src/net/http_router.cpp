#include "net/http_router.hpp"

#include <algorithm>

namespace wavecrest::net {

void HttpRouter::add(std::string prefix, HttpAnswer answer, IsHere is_here) {
    const auto at = std::find_if(routes_.begin(), routes_.end(),
                                 [&](const Route& one) { return one.prefix.size() < prefix.size(); });
    routes_.insert(at, {std::move(prefix), std::move(answer), std::move(is_here)});
}

HttpReply HttpRouter::answer(const HttpRequest& request) const {
    for (const Route& one : routes_) {
        const bool fits =
            one.prefix.empty() || request.path == one.prefix || request.path.starts_with(one.prefix + "/");
        if (fits && (!one.is_here || one.is_here(request))) return one.answer(request);
    }
    return HttpReply::text(404, "There is nothing here.\n");
}

}  // namespace wavecrest::net
