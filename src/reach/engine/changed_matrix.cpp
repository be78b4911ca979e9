#include "reach/engine/changed_matrix.h"

namespace jackal::reach {

MatrixIndex::MatrixIndex(const routing::Settled& settled, const Matrix& whole,
                         const std::vector<std::uint32_t>& more_prefixes)
    : ways_(whole.ways_.get()), words_(whole.words_), answered_(whole.cells_) {
    if (ways_ == nullptr)
        return;
    columns_ =
        std::make_unique<const ColumnIndex>(settled, ways_->columns, whole.ends(), more_prefixes);
    first_walked_.push_back(0);
    for (std::size_t w = 0; w < whole.unsettled_.size(); ++w) {
        for (std::uint64_t left = whole.unsettled_[w]; left != 0; left &= left - 1)
            walked_.push_back(static_cast<std::uint32_t>(
                w % words_ * 64 + static_cast<std::size_t>(std::countr_zero(left))));
        if (w % words_ + 1 == words_)
            first_walked_.push_back(walked_.size());
    }
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
