#include "support/sqlite.h"

#include <cstdio>
#include <cstdlib>
#include <sstream>

#include "support/support.h"

namespace juniper::test {

std::vector<std::vector<std::string>> run_sqlite(const std::string& script) {
  const TempFolder folder;
  const std::string file =
      folder.write("script.sql", ".bail on\n.mode ascii\n.separator \"\\037\" \"\\036\"\n.nullvalue null\n" + script);
  const std::string command = "sqlite3 -batch -init /dev/null :memory: < '" + file + "' > '" + folder.path("out") +
                              "' 2> '" + folder.path("err") + "'";
  const int status = std::system(command.c_str());
  const std::string err = read_file(folder.path("err"));
  EXPECT_EQ(status, 0) << err << "\n" << script;
  std::vector<std::vector<std::string>> rows;
  std::istringstream out(read_file(folder.path("out")));
  for (std::string row; std::getline(out, row, '\036');) {
    rows.emplace_back();
    std::istringstream fields(row + '\037');
    for (std::string field; std::getline(fields, field, '\037');) rows.back().push_back(field);
  }
  return rows;
}

}  // namespace juniper::test
