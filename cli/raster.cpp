#include "raster.h"

#include "command.h"

#include <cairo-pdf.h>
#include <cmath>
#include <fmt/format.h>
#include <librsvg/rsvg.h>
#include <memory>

namespace jackal::cli {

namespace {

// A picture of more pixels, of four bytes each, is asked for by mistake.
constexpr double most_pixels = 64e6;

template <auto function>
struct Freed {
    void operator()(auto* thing) const { function(thing); }
};
using Handle = std::unique_ptr<RsvgHandle, Freed<g_object_unref>>;
using Surface = std::unique_ptr<cairo_surface_t, Freed<cairo_surface_destroy>>;
using Drawing = std::unique_ptr<cairo_t, Freed<cairo_destroy>>;

struct Loaded {
    Handle handle;
    double width = 0;
    double height = 0;
};

Loaded load(const std::string& svg) {
    GError* error = nullptr;
    Loaded loaded;
    loaded.handle.reset(
        rsvg_handle_new_from_data(reinterpret_cast<const guint8*>(svg.data()), svg.size(), &error));
    if (!loaded.handle
        || !rsvg_handle_get_intrinsic_size_in_pixels(loaded.handle.get(), &loaded.width,
                                                     &loaded.height)) {
        std::string why = error ? error->message : "it has no size";
        g_clear_error(&error);
        throw NotAsked("the picture cannot be drawn: " + why);
    }
    return loaded;
}

cairo_status_t append(void* text, const unsigned char* data, unsigned int size) {
    static_cast<std::string*>(text)->append(reinterpret_cast<const char*>(data), size);
    return CAIRO_STATUS_SUCCESS;
}

void draw(const Loaded& loaded, cairo_surface_t* surface, double scale) {
    Drawing drawing(cairo_create(surface));
    cairo_scale(drawing.get(), scale, scale);
    RsvgRectangle all{0, 0, loaded.width, loaded.height};
    GError* error = nullptr;
    if (!rsvg_handle_render_document(loaded.handle.get(), drawing.get(), &all, &error)) {
        std::string why = error->message;
        g_clear_error(&error);
        throw NotAsked("the picture cannot be drawn: " + why);
    }
}

} // namespace

std::string png_of(const std::string& svg, double scale) {
    Loaded loaded = load(svg);
    double width = std::ceil(loaded.width * scale);
    double height = std::ceil(loaded.height * scale);
    if (width * height > most_pixels || std::max(width, height) > 32767)
        throw NotAsked(
            fmt::format("a PNG of {:.0f} x {:.0f} pixels is too large: draw it as SVG or "
                        "PDF, a part of it (--around), or smaller (--scale)",
                        width, height));
    Surface surface(cairo_image_surface_create(CAIRO_FORMAT_ARGB32, static_cast<int>(width),
                                               static_cast<int>(height)));
    draw(loaded, surface.get(), scale);
    std::string png;
    if (cairo_surface_write_to_png_stream(surface.get(), append, &png) != CAIRO_STATUS_SUCCESS)
        throw NotAsked("the picture cannot be written as PNG");
    return png;
}

std::string pdf_of(const std::string& svg) {
    Loaded loaded = load(svg);
    std::string pdf;
    constexpr double points = 0.75; // of a pixel of 1/96 inch
    Surface surface(cairo_pdf_surface_create_for_stream(append, &pdf, loaded.width * points,
                                                        loaded.height * points));
    draw(loaded, surface.get(), points);
    cairo_surface_finish(surface.get());
    if (cairo_surface_status(surface.get()) != CAIRO_STATUS_SUCCESS)
        throw NotAsked("the picture cannot be written as PDF");
    return pdf;
}

} // namespace jackal::cli
