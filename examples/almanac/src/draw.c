#include "draw.h"

#include <stdio.h>

#include "range.h"

static const char *const names[] = {"J", "F", "M", "A", "M", "J", "J", "A", "S", "O", "N", "D"};

void draw_curve(const struct light *light, const struct months *months)
{
    printf("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 360 150\" role=\"img\" aria-label=\"%s\">\n",
           light->title);
    printf("<text x=\"0\" y=\"16\" font-size=\"15\">%s</text>\n", light->title);
    printf("<text x=\"0\" y=\"32\" font-size=\"11\" class=\"faint\">%s, %.0f m, seen for %.1f miles</text>\n",
           light->character, light->height, range(light->height, light->candela));
    for (int i = 0; i < 12; i++) {
        double height = months->hours[i] / 520.0 * 90.0;
        printf("<rect class=\"bar\" x=\"%d\" y=\"%.1f\" width=\"22\" height=\"%.1f\" rx=\"2\"/>\n", i * 30 + 4,
               132.0 - height, height);
        printf("<text x=\"%d\" y=\"146\" font-size=\"10\" text-anchor=\"middle\" class=\"faint\">%s</text>\n",
               i * 30 + 15, names[i]);
    }
    printf("<line class=\"axis\" x1=\"0\" y1=\"132.5\" x2=\"360\" y2=\"132.5\"/>\n</svg>\n");
}

void draw_chart(void)
{
    const struct light *light;
    printf("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 400 400\" role=\"img\" aria-label=\"Chart\">\n");
    printf("<rect class=\"sea\" width=\"400\" height=\"400\" rx=\"4\"/>\n");
    for (int i = 0; (light = light_at(i)); i++)
        printf("<circle class=\"ring\" cx=\"%.0f\" cy=\"%.0f\" r=\"%.1f\"/>\n", light->x * 4, light->y * 4,
               range(light->height, light->candela) * 2.6);
    for (int i = 0; (light = light_at(i)); i++) {
        printf("<circle class=\"lamp\" cx=\"%.0f\" cy=\"%.0f\" r=\"3.5\"/>\n", light->x * 4, light->y * 4);
        printf("<text x=\"%.0f\" y=\"%.0f\" font-size=\"11\"%s>%s</text>\n",
               light->x * 4 + (light->x > 75 ? -7 : 7), light->y * 4 + 4,
               light->x > 75 ? " text-anchor=\"end\"" : "", light->title);
    }
    printf("</svg>\n");
}
