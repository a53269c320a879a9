#include "support/browser.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <httplib.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <stdexcept>

extern char** environ;

namespace juniper::test {

namespace {

// Of the standard's element identifiers, section 11 of https://www.w3.org/TR/webdriver2/.
constexpr const char* element_key = "element-6066-11e4-a52e-4f735466cecf";

std::string decoded_base64(const std::string& text) {
  static constexpr std::string_view digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string bytes;
  std::uint32_t bits = 0;
  int count = 0;
  for (const char c : text) {
    const std::size_t digit = digits.find(c);
    if (digit == std::string_view::npos) continue;
    bits = bits << 6 | static_cast<std::uint32_t>(digit);
    count += 6;
    if (count < 8) continue;
    count -= 8;
    bytes += static_cast<char>(bits >> count & 0xFF);
  }
  return bytes;
}

}  // namespace

// The process that drives the browser, on a port of its own choice.
struct Browser::Driver {
  pid_t process = -1;
  std::unique_ptr<httplib::Client> client;

  Driver() {
    std::array<int, 2> pipe{};
    if (::pipe2(pipe.data(), O_CLOEXEC) != 0) throw std::runtime_error("no pipe");
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, pipe[1], STDOUT_FILENO);
    posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
    std::string name = "chromedriver";
    std::string port = "--port=0";
    std::array<char*, 3> words{name.data(), port.data(), nullptr};
    const int failed = ::posix_spawnp(&process, name.c_str(), &actions, &attributes, words.data(), environ);
    posix_spawn_file_actions_destroy(&actions);
    posix_spawnattr_destroy(&attributes);
    ::close(pipe[1]);
    if (failed != 0) throw std::runtime_error("there is no chromedriver: scripts/setup installs it");
    std::string said;
    std::array<char, 512> part{};
    const std::string mark = "successfully on port ";
    std::size_t at = std::string::npos;
    while ((at = said.find(mark)) == std::string::npos || said.find('\n', at) == std::string::npos) {
      const ssize_t got = ::read(pipe[0], part.data(), part.size());
      if (got <= 0) throw std::runtime_error("chromedriver has ended: " + said);
      said.append(part.data(), static_cast<std::size_t>(got));
    }
    // Its end stays open, so that it can go on to write.
    client = std::make_unique<httplib::Client>("127.0.0.1", std::stoi(said.substr(at + mark.size())));
    client->set_read_timeout(180);
    client->set_keep_alive(true);
  }
  ~Driver() {
    ::kill(-process, SIGTERM);
    int status = 0;
    ::waitpid(process, &status, 0);
  }
  Driver(const Driver&) = delete;
  Driver& operator=(const Driver&) = delete;
};

nlohmann::json Browser::call(const std::string& method, const std::string& path, const nlohmann::json& body) {
  const std::string whole = "/session" + (session_.empty() ? "" : "/" + session_) + path;
  const auto answer = method == "GET"      ? driver_->client->Get(whole.c_str())
                      : method == "DELETE" ? driver_->client->Delete(whole.c_str())
                                           : driver_->client->Post(whole.c_str(), body.dump(), "application/json");
  if (!answer) throw std::runtime_error("the browser does not answer: " + whole);
  auto json = nlohmann::json::parse(answer->body);
  if (answer->status != 200) throw std::runtime_error(whole + ": " + json["value"].value("message", answer->body));
  return json["value"];
}

Browser::Browser(int width, int height) : driver_(std::make_unique<Driver>()) {
  const nlohmann::json options{{"args",
                                {"--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage",
                                 "--hide-scrollbars", fmt::format("--window-size={},{}", width, height)}}};
  const auto made = call("POST", "",
                         {{"capabilities",
                           {{"alwaysMatch",
                             {{"browserName", "chrome"},
                              {"goog:chromeOptions", options},
                              {"goog:loggingPrefs", {{"browser", "ALL"}, {"performance", "ALL"}}}}}}}});
  session_ = made["sessionId"];
  command("Emulation.setDeviceMetricsOverride",
          {{"width", width}, {"height", height}, {"deviceScaleFactor", 1}, {"mobile", false}});
}

Browser::~Browser() {
  try {
    call("DELETE", "", {});
  } catch (const std::exception&) {
    // Its process ends with its driver.
  }
}

void Browser::open(const std::string& path) {
  call("POST", "/url", {{"url", "file://" + path}});
}

nlohmann::json Browser::run(const std::string& script, const nlohmann::json& arguments) {
  return call("POST", "/execute/sync", {{"script", script}, {"args", arguments}});
}

nlohmann::json Browser::run_later(const std::string& script) {
  call("POST", "/timeouts", {{"script", 120000}});
  return call("POST", "/execute/async", {{"script", script}, {"args", nlohmann::json::array()}});
}

std::string Browser::element(const std::string& selector) {
  return call("POST", "/element", {{"using", "css selector"}, {"value", selector}})[element_key];
}

void Browser::click(const std::string& selector) {
  call("POST", "/element/" + element(selector) + "/click", nlohmann::json::object());
}

void Browser::type(const std::string& selector, const std::string& keys) {
  call("POST", "/element/" + element(selector) + "/value", {{"text", keys}});
}

nlohmann::json Browser::command(const std::string& name, const nlohmann::json& parameters) {
  return call("POST", "/goog/cdp/execute", {{"cmd", name}, {"params", parameters}});
}

std::string Browser::pdf() {
  return decoded_base64(call("POST", "/print", nlohmann::json::object()));
}

std::vector<std::string> Browser::log(const std::string& kind) {
  std::vector<std::string> messages;
  for (const auto& entry : call("POST", "/se/log", {{"type", kind}})) messages.push_back(entry.dump());
  return messages;
}

std::string Browser::picture() {
  return decoded_base64(call("GET", "/screenshot", {}));
}

}  // namespace juniper::test
