// The library's optional part for MPI: loaded when it is asked for, so that nothing else needs MPI.
#define OMPI_SKIP_MPICXX 1
#include <mpi.h>

#include <chrono>
#include <deque>
#include <thread>

#include "lathe/error.hpp"
#include "lathe/spread.hpp"

namespace {

constexpr int kTag = 1;

class MpiRanks : public lathe::Ranks {
 public:
  MpiRanks() {
    int there = 0;
    MPI_Initialized(&there);
    int threads = MPI_THREAD_SINGLE;
    // Messages are the main thread's alone; others compute beside it.
    if (!there && MPI_Init_thread(nullptr, nullptr, MPI_THREAD_FUNNELED, &threads) != MPI_SUCCESS)
      throw lathe::Error(lathe::Category::resource, "MPI cannot be started");
    // What is wrong with one rank is no reason for the others to end.
    MPI_Comm_set_errhandler(MPI_COMM_WORLD, MPI_ERRORS_RETURN);
    MPI_Comm_rank(MPI_COMM_WORLD, &rank_);
    MPI_Comm_size(MPI_COMM_WORLD, &count_);
  }
  int rank() const override { return rank_; }
  int count() const override { return count_; }

  // Kept until they have gone out: whoever they are for may be gone, and nobody waits for that.
  void send(int to, std::string_view message) override {
    clear();
    Going& g = going_.emplace_back();
    g.bytes = message;
    if (MPI_Isend(g.bytes.data(), static_cast<int>(g.bytes.size()), MPI_BYTE, to, kTag, MPI_COMM_WORLD, &g.request) != MPI_SUCCESS)
      going_.pop_back();
  }

  std::optional<Message> receive(double seconds) override {
    using Clock = std::chrono::steady_clock;
    const auto until = Clock::now() + std::chrono::duration<double>(seconds);
    while (true) {
      int there = 0;
      MPI_Status status;
      if (MPI_Iprobe(MPI_ANY_SOURCE, kTag, MPI_COMM_WORLD, &there, &status) == MPI_SUCCESS && there) {
        int bytes = 0;
        MPI_Get_count(&status, MPI_BYTE, &bytes);
        Message m{status.MPI_SOURCE, std::string(static_cast<size_t>(bytes), '\0')};
        if (MPI_Recv(m.bytes.data(), bytes, MPI_BYTE, m.from, kTag, MPI_COMM_WORLD, MPI_STATUS_IGNORE) == MPI_SUCCESS) return m;
      }
      clear();
      if (Clock::now() >= until) return std::nullopt;
      // Rank 0 looks while it works; the others have nothing else to do.
      std::this_thread::sleep_for(std::chrono::microseconds(rank_ == 0 ? 500 : 50));
    }
  }

  void end(bool everyone) override {
    // With somebody missing MPI would wait for him for ever: what is on its way is given up.
    if (!everyone) {
      for (const auto until = std::chrono::steady_clock::now() + std::chrono::milliseconds(200); std::chrono::steady_clock::now() < until;)
        clear();
      return;
    }
    for (Going& g : going_) MPI_Wait(&g.request, MPI_STATUS_IGNORE);
    MPI_Finalize();
  }

 private:
  struct Going {
    std::string bytes;
    MPI_Request request = MPI_REQUEST_NULL;
  };
  void clear() {
    while (!going_.empty()) {
      int gone = 0;
      if (MPI_Test(&going_.front().request, &gone, MPI_STATUS_IGNORE) == MPI_SUCCESS && !gone) return;
      going_.pop_front();
    }
  }
  int rank_ = 0, count_ = 1;
  std::deque<Going> going_;
};

}  // namespace

extern "C" lathe::Ranks* lathe_ranks() { return new MpiRanks; }
