#include "process.h"
#include "ranks.h"
#include "run.h"

#include <cstdio>
#include <fcntl.h>
#include <fmt/format.h>
#include <mpi.h>
#include <unistd.h>

namespace {

using namespace jackal;

// Of all ranks only the first is heard: what the others would say, it says too.
void be_silent() {
    int nowhere = open("/dev/null", O_WRONLY);
    dup2(nowhere, STDOUT_FILENO);
    dup2(nowhere, STDERR_FILENO);
    close(nowhere);
}

int answer(int argc, char** argv) try {
    CLI::App app{"Tells what every single cut of a lab would lose, by many processes at once."};
    app.name("jackal-sweep");
    app.set_version_flag("--version", fmt::format("jackal {}", version()));
    cli::set_help(app);
    cli::Run run;
    cli::add_sweep_options(app, run, cluster::sweep);
    app.footer("Examples:\n"
               "  mpirun -n 8 jackal-sweep lab.yaml --what link --format json > sweep.json\n"
               "  mpirun --enable-recovery -n 8 jackal-sweep lab.yaml\n"
               "\n"
               "The answer is that of `jackal sweep`, to the byte. Every process reads the plan; "
               "start as many\nas there are cores. With --enable-recovery the loss of one loses "
               "nothing but time. There is no\nlimit to processor time and memory but the "
               "system's.");
    try {
        app.parse(argc, argv);
        return cli::print(run(cli::Style(false)));
    } catch (const CLI::Success& e) { // --help, --version
        return app.exit(e);
    } catch (const CLI::ParseError& e) {
        cli::complain(std::string(e.what()) + "\nTry: jackal-sweep --help");
        return cli::status_not_asked;
    }
} catch (const std::exception& e) {
    cli::complain(e.what());
    return cli::status_not_asked;
}

} // namespace

int main(int argc, char** argv) {
    int provided = 0;
    int rank = 0;
    MPI_Init_thread(&argc, &argv, MPI_THREAD_FUNNELED, &provided);
    MPI_Comm_set_errhandler(MPI_COMM_WORLD, MPI_ERRORS_RETURN);
    MPI_Comm_rank(MPI_COMM_WORLD, &rank);
    if (rank != 0)
        be_silent();
    int status = answer(argc, argv);
    if (cluster::has_lost_ranks()) { // who is gone comes to no common end
        std::fflush(nullptr);
        _exit(status);
    }
    MPI_Finalize();
    return rank == 0 ? status : cli::status_well;
}
