/* Finds lines whose signatures are the same, as `signatures.py` describes them, in one pass.

   Each line is given a key: its signature with all that may differ between lines of one signature made the
   same (the digits of a valid time and of its fraction, the number before a stamp, a PROCID).
   Lines of one key have one signature, if one of them has a signature that ends where its key was taken;
   that is for the caller to check. A line that has no key is left to be read by itself.

   Every look at a byte is behind a check that it lies before the end of its line. */

#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define EXPORT __attribute__((visibility("default")))

typedef uint8_t byte;

enum {
    KEY = 256,         /* bytes, eight times some number; a signature with a longer key is left out */
    NUMBER = 9,        /* digits of a number before a stamp, and of the number of a message */
    OLD_WORDS = 3,     /* blanks of RFC 3164 behind the time, up to the one behind the tag */
    MOST = 1 << 16,    /* keys; lines of any more are left to be read one by one */
    SLOTS = 1 << 18    /* of the table in which keys are found; a power of two */
};

/* Lines of one key: how many, the first and the last of them, and in how many bytes of the first
   its signature must end. */
typedef struct {
    int64_t number, first, last, cut;
} Alike;

typedef struct {
    byte bytes[KEY];
    uint64_t hash;
    int32_t length;
} Key;

/* A line that is gone through: what is still to be read, and the key so far. */
typedef struct {
    const byte *at, *end;
    int recorded; /* it is a line of a recording, in which quotes are escaped */
    Key key;
} Line;

static int is_digit(byte c) { return (byte)(c - '0') < 10; }

/* Return the byte so far on in the line, which need not be there; 0 if it is not. */
static byte peek(const Line *line, int on) {
    return line->end - line->at > on ? line->at[on] : 0;
}

/* Pass over so many bytes, and put a mark in their place: a line feed, which no line holds, and a
   letter for what they are. */
static int mark(Line *line, int number, byte letter) {
    if (line->end - line->at < number || line->key.length + 2 > KEY) return 0;
    line->key.bytes[line->key.length++] = '\n';
    line->key.bytes[line->key.length++] = letter;
    line->at += number;
    return 1;
}

/* Take so many bytes of the line into the key as they are. */
static int take(Line *line, int number) {
    if (line->end - line->at < number || line->key.length + number > KEY) return 0;
    memcpy(line->key.bytes + line->key.length, line->at, (size_t)number);
    line->key.length += number;
    line->at += number;
    return 1;
}

/* Whether the line says some text so far on. */
static int says(const Line *line, int on, const char *text) {
    size_t length = strlen(text);
    return line->end - line->at >= on + (int64_t)length && !memcmp(line->at + on, text, length);
}

/* Return how many digits stand so far on in the line, at most so many. */
static int digits(const Line *line, int from, int most) {
    int n = 0;
    while (n < most && is_digit(peek(line, from + n))) n++;
    return n;
}

/* <PRI>, if there is one. */
static int take_pri(Line *line) {
    if (peek(line, 0) != '<') return 1;
    int n = digits(line, 1, 3);
    return n && peek(line, n + 1) == '>' && take(line, n + 2);
}

/* A time that is valid, and its fraction of three or six digits. */
static int take_time(Line *line) {
    for (int n = 0; n < 8; n++) {
        byte c = peek(line, n);
        if (n == 2 || n == 5 ? c != ':' : !is_digit(c)) return 0;
    }
    const byte *t = line->at;
    if (t[0] > '2' || (t[0] == '2' && t[1] > '3') || t[3] > '5' || t[6] > '5') return 0;
    if (!mark(line, 8, 't')) return 0;
    if (peek(line, 0) != '.') return !is_digit(peek(line, 0));
    int n = digits(line, 1, 7);
    byte behind = peek(line, n + 1);
    if (n != 3 && (n != 6 || !behind || !strchr("Z +-", behind))) return 0;
    return mark(line, n + 1, n == 3 ? 'm' : 'u');
}

/* How long a device has been up: weeks and days, days and hours, or one of them. */
static int take_uptime(Line *line) {
    int n = digits(line, 0, 5);
    byte unit = peek(line, n), next;
    if (!n || (unit != 'w' && unit != 'd')) return 0;
    if (!mark(line, n + 1, unit)) return 0;
    n = digits(line, 0, 2);
    next = peek(line, n);
    if (n && (next == 'd' || next == 'h') && !mark(line, n + 1, next)) return 0;
    return peek(line, 0) == ' ' || peek(line, 0) == ':';
}

/* What may stand between a time of RFC 3164 and the blank before the next word. */
static int take_zone(Line *line) {
    if (peek(line, 0) == 'Z') {
        if (!take(line, 1)) return 0;
    } else if ((peek(line, 0) == '+' || peek(line, 0) == '-') && peek(line, 3) == ':') {
        if (!take(line, 6)) return 0;
    }
    if (peek(line, 0) == ' ' && digits(line, 1, 5) == 4 && peek(line, 5) == ' ') {
        if (!take(line, 5)) return 0;
    }
    int blank = peek(line, 0) == ' ', n;
    byte sign = peek(line, blank);
    if (sign == '+' || sign == '-') {
        n = digits(line, blank + 1, 2);
        if (n == 2 && peek(line, blank + 3) == ':') n++;
        n += digits(line, blank + 1 + n, 2);
        if (!take(line, blank + 1 + n)) return 0;
    } else if (says(line, 0, " UTC")) {
        if (!take(line, 4)) return 0;
    }
    return peek(line, 0) != ':' || take(line, 1);
}

/* The number of a process behind its name. */
static int take_process(Line *line) {
    int n = digits(line, 1, 11);
    if (n > 10 || peek(line, n + 1) != ']') return 0;
    int colon = peek(line, n + 2) == ':';
    return peek(line, n + 2 + colon) == ' ' && mark(line, n + 3 + colon, '[');
}

/* The words from there on up to what ends a tag. */
static int take_tag(Line *line) {
    int words = 0, n = 0;
    for (const byte *c = line->at; c + 1 < line->end && n < KEY; c++, n++) {
        if (*c == ' ' && ++words == OLD_WORDS) return take(line, n + 1);
        if (*c == ':' && c[1] == ' ') return take(line, n + 2);
        if (*c == '[' && is_digit(c[1])) return take(line, n) && take_process(line);
    }
    return 0;
}

/* A message of RFC 3164. */
static int take_old(Line *line) {
    int n = digits(line, 0, NUMBER);
    if (n && peek(line, n) == ':' && peek(line, n + 1) == ' ') {
        if (!mark(line, n + 2, '#')) return 0;
    }
    n = digits(line, 0, 6);
    if (n && (peek(line, n) == 'w' || peek(line, n) == 'd'))
        return take_uptime(line) && take_zone(line) && take_tag(line);
    if ((peek(line, 0) == '*' || peek(line, 0) == '.') && !take(line, 1)) return 0;
    if (is_digit(peek(line, 0))) {
        if (!take(line, 11)) return 0; /* 2026-11-23T */
    } else {
        if (!take(line, 7)) return 0; /* Nov 23, and perhaps a year */
        if (digits(line, 0, 5) == 4 && !take(line, 5)) return 0;
    }
    return take_time(line) && take_zone(line) && take_tag(line);
}

static int is_of_word(byte c) {
    switch (c) {
    case 0: case ' ': case ':': case '[': case ']': case '"': case '\\': case '\n': return 0;
    default: return 1;
    }
}

static int take_word(Line *line) {
    int n = 0;
    while (is_of_word(peek(line, n))) n++;
    return n && peek(line, n) == ' ' && take(line, n + 1);
}

/* A message of RFC 5424, with no structured data or with the number of the message alone. */
static int take_new(Line *line) {
    if (!take(line, 13) || !take_time(line)) return 0; /* 1 2026-11-23T */
    if (!take(line, peek(line, 0) == 'Z' ? 1 : 6)) return 0;
    if (peek(line, 0) != ' ' || !take(line, 1)) return 0;
    if (!take_word(line) || !take_word(line)) return 0;
    int n = 0;
    while (is_of_word(peek(line, n))) n++;
    if (!n || peek(line, n) != ' ') return 0;
    if (!mark(line, n + 1, 'p') || !take_word(line)) return 0; /* PROCID and MSGID */
    const char *sequence = line->recorded ? "[meta sequenceId=\\\"" : "[meta sequenceId=\"";
    const char *close = line->recorded ? "\\\"]" : "\"]";
    if (peek(line, 0) == '-') {
        if (!take(line, 1)) return 0;
    } else {
        if (!says(line, 0, sequence)) return 0;
        int length = (int)strlen(sequence);
        n = digits(line, length, NUMBER);
        if (!n || !says(line, length + n, close)) return 0;
        if (!mark(line, length + n + (int)strlen(close), '#')) return 0;
    }
    /* The end of a recorded message is not that of its line. */
    return peek(line, 0) == ' ' || (line->at == line->end && !line->recorded);
}

/* What stands around the message in a line of a recording; all that follows the time when it came
   is compared. */
static int take_record(Line *line) {
    static const char form[] = "{\"received\":\"dddd-dd-ddTdd:dd:dd.ddddddZ\"";
    for (int n = 0; n < (int)sizeof form - 1; n++) {
        int digit = n > 12 && form[n] == 'd';
        if (digit ? !is_digit(peek(line, n)) : peek(line, n) != form[n]) return 0;
    }
    if (!mark(line, (int)sizeof form - 1, 'r')) return 0;
    while (!says(line, 0, "\"text\":\""))
        if (!take(line, 1)) return 0;
    if (!take(line, 8)) return 0;
    line->end -= 2;
    return line->end >= line->at && !memcmp(line->end, "\"}", 2);
}

static int take_signature(Line *line) {
    if ((line->recorded && !take_record(line)) || !take_pri(line)) return 0;
    return peek(line, 0) == '1' && peek(line, 1) == ' ' ? take_new(line) : take_old(line);
}

static uint64_t hash_of(Key *key) {
    uint64_t h = 0x9e3779b97f4a7c15u ^ (uint64_t)key->length, word;
    memset(key->bytes + key->length, 0, (size_t)(-key->length & 7));
    for (int n = 0; n < key->length; n += 8) {
        memcpy(&word, key->bytes + n, 8);
        h = (h ^ word) * 0xff51afd7ed558ccdu;
        h ^= h >> 32;
    }
    return h;
}

/* The keys so far, and a table in which they are found by their hashes. */
typedef struct {
    int32_t *slots;
    Key *keys;
    int64_t number, room;
} Keys;

/* Return the number of a key, which is a new one if it was not seen before; -1 if there are too
   many, -2 if there is no memory. */
static int32_t number_of(Keys *known, Key *key) {
    key->hash = hash_of(key);
    uint64_t slot = key->hash & (SLOTS - 1);
    int32_t found;
    for (; (found = known->slots[slot]) >= 0; slot = (slot + 1) & (SLOTS - 1)) {
        const Key *one = known->keys + found;
        if (one->hash == key->hash && one->length == key->length &&
            !memcmp(one->bytes, key->bytes, (size_t)key->length))
            return found;
    }
    if (known->number == MOST) return -1;
    if (known->number == known->room) {
        int64_t room = known->room ? 2 * known->room : 64;
        Key *more = realloc(known->keys, (size_t)room * sizeof *more);
        if (!more) return -2;
        known->keys = more;
        known->room = room;
    }
    known->keys[known->number] = *key;
    return known->slots[slot] = (int32_t)known->number++;
}

/* Return how many lines there are. */
EXPORT int64_t ivrel_lines(const byte *data, int64_t size) {
    int64_t number = 0;
    for (int64_t n = 0; n < size; n++) number += data[n] == '\n';
    return number;
}

/* Group lines, each of which ends with a line feed.

   `data`, `size`: the lines; `recorded`: whether they are those of a recording; `begins`: room for
   where each begins, and one more; `group`: room for the number of the group of each, -1 where it
   has none; `others`: room for the numbers of those lines; `alike`: room for MOST groups. Return
   the number of groups, -1 if there is no memory. */
EXPORT int64_t ivrel_signatures(const byte *data, int64_t size, int recorded, int64_t *begins,
                            int32_t *group, int32_t *others, Alike *alike) {
    Keys known = {malloc(SLOTS * sizeof *known.slots), NULL, 0, 0};
    if (!known.slots) return -1;
    memset(known.slots, 0xff, SLOTS * sizeof *known.slots);
    int64_t at = 0, n = 0;
    int32_t found = -1;
    Line line;
    line.recorded = recorded;
    for (; at < size && found != -2; n++) {
        line.at = data + at;
        line.end = memchr(line.at, '\n', (size_t)(size - at));
        if (!line.end) break;
        line.key.length = 0;
        begins[n] = at;
        at = line.end - data + 1;
        int64_t before = known.number;
        group[n] = found = take_signature(&line) ? number_of(&known, &line.key) : -1;
        if (found < 0) {
            *others++ = (int32_t)n;
            continue;
        }
        Alike *one = alike + found;
        if (known.number > before) *one = (Alike){0, n, n, line.at - (data + begins[n])};
        one->number++;
        one->last = n;
    }
    begins[n] = at;
    free(known.keys);
    free(known.slots);
    return found == -2 ? -1 : known.number;
}
