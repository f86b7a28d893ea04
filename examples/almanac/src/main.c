/* lightrange: how far the Vellan lights are seen, and how their lamps burned.
 *
 *   lightrange --line LIGHT MONTHS     one line of the summary
 *   lightrange --curve LIGHT MONTHS    the year of one light as SVG
 *   lightrange --chart                 all lights and their reach as SVG
 *   lightrange --self-test
 */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "draw.h"
#include "light.h"
#include "months.h"
#include "range.h"

static int near(const char *what, double is, double should)
{
    int good = fabs(is - should) < 0.05;
    printf("%s %s: %.2f\n", good ? "good " : "WRONG", what, is);
    return good ? 0 : 1;
}

static int self_test(void)
{
    int wrong = 0;
    wrong += near("over the sea from 25 m", range_geographic(25), 15.05);
    wrong += near("over the sea from 0 m", range_geographic(0), 4.65);
    wrong += near("through the air, 1000 candela", range_luminous(1000), 9.37);
    wrong += near("the smaller counts", range(25, 1e9), 15.05);
    return wrong > 0;
}

static int one_light(const char *what, const char *key, const char *path)
{
    const struct light *light = light_find(key);
    struct months months;
    if (!light) {
        fprintf(stderr, "lightrange: data/lights.csv has no light '%s'\n", key);
        return 1;
    }
    if (!months_read(path, &months)) {
        fprintf(stderr, "lightrange: can't read %s\n", path);
        return 1;
    }
    if (strcmp(what, "--curve") == 0)
        draw_curve(light, &months);
    else
        printf("%s,%s,%s,%.2f,%.1f\n", light->key, light->title, light->character,
               range(light->height, light->candela), months.total);
    return 0;
}

int main(int argc, char **argv)
{
    if (argc == 2 && strcmp(argv[1], "--self-test") == 0)
        return self_test();
    if (argc == 2 && strcmp(argv[1], "--chart") == 0)
        return draw_chart(), 0;
    if (argc == 4 && (strcmp(argv[1], "--line") == 0 || strcmp(argv[1], "--curve") == 0))
        return one_light(argv[1], argv[2], argv[3]);
    fprintf(stderr, "usage: lightrange --line|--curve LIGHT MONTHS, --chart, --self-test\n");
    return 2;
}
