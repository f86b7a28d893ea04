/* One light of the table. */
#ifndef LIGHT_H
#define LIGHT_H

struct light {
    const char *key, *title, *character;
    double height;  /* of the lamp above the sea, metres */
    double candela; /* of the lamp */
    double x, y;    /* place on the chart, 0 to 100 */
};

const struct light *light_find(const char *key);
const struct light *light_at(int index); /* 0 behind the last */

#endif
