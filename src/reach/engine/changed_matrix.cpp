#include "reach/engine/changed_matrix.h"

namespace jackal::reach {

MatrixIndex::MatrixIndex(const routing::Settled& settled, const Matrix& whole,
                         const std::vector<std::uint32_t>& more_prefixes)
    : ways_(whole.ways_.get()), words_(whole.words_), answered_(whole.cells_),
      walked_(whole.unsettled_) {
    if (ways_ != nullptr)
        columns_ = std::make_unique<const ColumnIndex>(settled, ways_->columns, whole.ends(),
                                                       more_prefixes);
}

ChangedMatrix::Worker::Worker(const MatrixIndex& index) : index_(index) {}

// Lists of points are never given back, so now and then all that changes made are let go of.
void ChangedMatrix::Worker::make_room() {
    constexpr std::size_t most_new_lists = 200'000;
    const Points& all = index_.ways()->columns.points();
    if (points_ && points_->size() < all.size() + most_new_lists)
        return;
    rows_.reset();
    points_ = std::make_unique<Points>(all);
    column_ = std::make_unique<Column>(index_.columns().settled(), index_.ways()->packets,
                                       index_.ways()->columns.doors(), *points_);
    rows_ = std::make_unique<Rows::Worker>(index_.ways()->rows, *points_);
}

ChangedMatrix::ChangedMatrix(const MatrixIndex& index, const routing::Settled& without,
                             Worker& worker)
    : index_(index), worker_(worker) {
    if (index_.ways() == nullptr)
        return;
    worker_.make_room();
    worker_.rows_->begin();
    columns_ = std::make_unique<const ChangedColumns>(index_.columns(), without, *worker_.column_);
}

} // namespace jackal::reach
