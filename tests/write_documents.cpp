// Writes what is made of the tables of fields: the schema, and the tables of keys in the documents.
#include "files.h"
#include "jackal/export/reference.h"

#include <fstream>
#include <iostream>

int main(int argc, char** argv) {
    if (argc != 2) {
        std::cerr << "write_documents FOLDER: the project's\n";
        return 2;
    }
    const std::string top = std::string(argv[1]) + "/";
    const std::string page = top + "docs/plan-file.md";
    const std::string text = jackal::exports::with_key_tables(text_of(page));
    std::ofstream(page, std::ios::binary) << text;
    std::ofstream(top + "schema/jackal.schema.json", std::ios::binary)
        << jackal::exports::plan_schema();
}
