// Which of several answers a request gets, by the beginning of its path.
#pragma once

#include <string>
#include <vector>

#include "net/http_server.hpp"

namespace wavecrest::net {

class HttpRouter {
  public:
    // Requests at `prefix` ("/control") and below it ("/control/status"), but not at what only begins with the same
    // letters ("/controls"). "" takes whatever nothing else does. `is_here`, where there is one, says whether it takes
    // part for this request (by its port, say). Of several the longest prefix answers.
    using IsHere = std::function<bool(const HttpRequest& request)>;
    void add(std::string prefix, HttpAnswer answer, IsHere is_here = {});

    // Status 404 where nothing fits.
    HttpReply answer(const HttpRequest& request) const;

  private:
    struct Route {
        std::string prefix;
        HttpAnswer answer;
        IsHere is_here;
    };
    std::vector<Route> routes_;  // the longest prefix first
};

}  // namespace wavecrest::net
