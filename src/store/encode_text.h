// Encoding a column of texts.
#pragma once

#include "source/column_input.h"
#include "store/column.h"

namespace juniper::store {

// Gives `column`, of which type, rows and nulls are set, a dictionary and codes. Takes the input's texts away.
Column encode_text(Column column, source::ColumnInput& input);

}  // namespace juniper::store
