// A real browser without a window: Chromium, driven as the W3C WebDriver standard says.
#pragma once

#include <memory>
#include <nlohmann/json.hpp>
#include <string>

namespace juniper::test {

class Browser {
 public:
  // Starts one, of so many pixels. Throws where there is none.
  Browser(int width, int height);
  ~Browser();
  Browser(const Browser&) = delete;
  Browser& operator=(const Browser&) = delete;

  // Opens a file, and waits until its scripts have run.
  void open(const std::string& path);
  // What a script returns: "return document.title". `arguments`: its `arguments`.
  nlohmann::json run(const std::string& script, const nlohmann::json& arguments = nlohmann::json::array());
  // The same of a script that calls its last argument when it is done.
  nlohmann::json run_later(const std::string& script);
  // Clicks on the first element that a selector of CSS names, as a person would: not on what is hidden.
  void click(const std::string& selector);
  // Types into it; the keys of WebDriver, as "\uE007" for Enter, too.
  void type(const std::string& selector, const std::string& keys);
  // A command of the browser's own protocol.
  nlohmann::json command(const std::string& name, const nlohmann::json& parameters);
  // The page as PDF.
  std::string pdf();
  // What its console and its network say since the last time, one JSON text each.
  std::vector<std::string> log(const std::string& kind);
  // A picture of what is seen, as PNG.
  std::string picture();

 private:
  struct Driver;
  nlohmann::json call(const std::string& method, const std::string& path, const nlohmann::json& body);
  std::string element(const std::string& selector);

  std::unique_ptr<Driver> driver_;
  std::string session_;
};

}  // namespace juniper::test
