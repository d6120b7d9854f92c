#include "net/http_router.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;

namespace {

net::HttpAnswer says(const std::string& text) {
    return [text](const net::HttpRequest&) { return net::HttpReply::text(200, text); };
}
std::string answered(const net::HttpRouter& router, const std::string& path, std::uint16_t port = 80) {
    net::HttpRequest request;
    request.path = path;
    request.port = port;
    const net::HttpReply reply = router.answer(request);
    const ByteSpan body = reply.body.view();
    return reply.status == 200 ? std::string(body.begin(), body.end()) : std::to_string(reply.status);
}

}  // namespace

TEST_CASE("the longest prefix that ends where a part of the path ends answers", "[http][router]") {
    net::HttpRouter router;
    CHECK(answered(router, "/") == "404");
    router.add("", says("streams"));
    router.add("/control", says("control"));
    router.add("/control/status", says("status"));
    CHECK(answered(router, "/film.mp4") == "streams");
    CHECK(answered(router, "/control") == "control");
    CHECK(answered(router, "/control/do") == "control");
    CHECK(answered(router, "/control/status") == "status");
    CHECK(answered(router, "/control/status/x") == "status");
    CHECK(answered(router, "/controls") == "streams");
    CHECK(answered(router, "/control.mp4") == "streams");
    router.add("/inner", says("inner"), [](const net::HttpRequest& request) { return request.port == 8090; });
    CHECK(answered(router, "/inner/x", 8090) == "inner");
    CHECK(answered(router, "/inner/x", 8080) == "streams");
}

TEST_CASE("header fields are found in whatever letters, the first one counts", "[http][router]") {
    net::HttpRequest request;
    request.fields = {{"Host", "a"}, {"X-Room", "lounge"}, {"host", "b"}};
    CHECK(request.field("HOST") == "a");
    CHECK(request.field("x-room") == "lounge");
    CHECK(request.field("Range").empty());
}
