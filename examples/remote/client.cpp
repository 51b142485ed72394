// The same in C++, without a library: HTTP over a socket of POSIX.
#include <algorithm>
#include <cstdlib>
#include <iomanip>
#include <iostream>
#include <netinet/in.h>
#include <sstream>
#include <stdexcept>
#include <string>
#include <sys/socket.h>
#include <unistd.h>

static std::string call(const std::string &method, const std::string &parameters) {
    const std::string address = std::getenv("PENDEL_ADDRESS");
    const int port = std::stoi(address.substr(address.rfind(':') + 1));
    const std::string text = "{\"jsonrpc\": \"2.0\", \"id\": 1, \"method\": \"" + method + "\", \"params\": " + parameters + "}";
    std::ostringstream request;
    request << "POST / HTTP/1.1\r\nHost: 127.0.0.1:" << port << "\r\nAuthorization: Bearer " << std::getenv("PENDEL_TOKEN")
            << "\r\nContent-Type: application/json\r\nConnection: close\r\nContent-Length: " << text.size() << "\r\n\r\n"
            << text;
    const int wire = socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in place{};
    place.sin_family = AF_INET;
    place.sin_port = htons(static_cast<unsigned short>(port));
    place.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    if (connect(wire, reinterpret_cast<sockaddr *>(&place), sizeof place) != 0) throw std::runtime_error("nobody answers");
    const std::string whole = request.str();
    for (size_t sent = 0; sent < whole.size();) {
        const ssize_t count = write(wire, whole.data() + sent, whole.size() - sent);
        if (count <= 0) throw std::runtime_error("the call cannot be sent");
        sent += static_cast<size_t>(count);
    }
    std::string answer;
    char part[1 << 16];
    for (ssize_t count; (count = read(wire, part, sizeof part)) > 0;) answer.append(part, static_cast<size_t>(count));
    close(wire);
    if (answer.find("\"result\":") == std::string::npos) throw std::runtime_error(answer);
    return answer;
}

static std::string between(const std::string &text, const std::string &before, char after) {
    const size_t from = text.find(before) + before.size();
    return text.substr(from, text.find(after, from) - from);
}

int main() {
    call("drive.set", "{\"name\": \"K_p\", \"value\": \"30 A*s/m\"}");
    const std::string run = between(call("drive.run", "{\"until\": \"50 ms\"}"), "\"run\":\"", '"');
    std::istringstream values(between(call("run.trace", "{\"run\": \"" + run + "\", \"signal\": \"door_motor.current\"}"), "\"y\":[", ']'));
    double largest = -1e300;
    for (std::string value; std::getline(values, value, ',');) largest = std::max(largest, std::stod(value));
    std::cout << std::setprecision(17) << largest << '\n';
}
