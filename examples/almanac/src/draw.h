/* Drawings as SVG. */
#ifndef DRAW_H
#define DRAW_H

#include "light.h"
#include "months.h"

void draw_curve(const struct light *light, const struct months *months);
void draw_chart(void);

#endif
