# Loads one file of functions, says what they are, and carries calls of them out.
#
# Standard input brings a call in each line, {"n": NUMBER, "call": NAME, "args": {…}, "session": {…}}; standard
# output gives {"log": LINE} as often as something is printed, and one of {"returns": VALUE},
# {"raises": {…}} or {"unfit": TEXT}, with the n of its call. It begins with {"functions": […]} or {"broken": {…}}.
import sys

if sys.version_info < (3, 9):
    sys.stdout.write('{"broken": {"say": "this is Python %d.%d, and 3.9 or newer is needed"}}\n' % sys.version_info[:2])
    sys.exit(0)

import ast
import asyncio
import base64
import collections.abc
import dataclasses
import datetime
import decimal
import enum
import importlib.util
import inspect
import json
import linecache
import math
import os
import pathlib
import traceback
import types
import typing
import uuid

WIRE_IN = os.fdopen(os.dup(0), "rb")
WIRE_OUT = os.dup(1)
OWN = os.getpid()
os.dup2(2, 1)  # what is written past sys.stdout goes to the log
os.dup2(os.open(os.devnull, os.O_RDONLY), 0)


def tell(message):
    data = (json.dumps(message) + "\n").encode()
    while data:
        data = data[os.write(WIRE_OUT, data):]


MOST = 64 << 10  # letters of a call that are told


class Log:
    """Takes what is printed, and tells each line of it."""

    encoding, errors = "utf-8", "replace"

    def __init__(self):
        self.rest = ""
        self.room = MOST

    def write(self, text):
        if os.getpid() != OWN or self.room < 0:
            return len(text)
        self.room -= len(text)
        if self.room < 0:
            text = text[:2000] + "\n… what was printed after this is not kept\n"
        lines = (self.rest + text).split("\n")
        self.rest = lines.pop()[-4000:]
        for line in lines:
            tell({"log": line[:4000]})
        return len(text)

    def writelines(self, lines):
        for line in lines:
            self.write(line)

    def flush(self):
        pass

    def end(self):
        if self.rest:
            self.write("\n")

    def isatty(self):
        return False

    def writable(self):
        return True

    def fileno(self):
        return 1


LOG = sys.stdout = sys.stderr = Log()
READ = json.JSONDecoder().decode
FILE = os.path.abspath(sys.argv[1])
FOLDER = os.path.dirname(FILE)


def place(error):
    """Gives the last place in the file, or beside it, that an exception came through."""
    found = None
    frames = traceback.extract_tb(error.__traceback__)
    for frame in frames:
        if os.path.dirname(os.path.abspath(frame.filename)) == FOLDER:
            found = frame
    if isinstance(error, SyntaxError) and error.filename and os.path.dirname(os.path.abspath(error.filename)) == FOLDER:
        return os.path.basename(error.filename), error.lineno or 1
    return (os.path.basename(found.filename), found.lineno) if found else ("", 0)


def trace(error):
    lines = traceback.format_exception(type(error), error, error.__traceback__)
    return "".join(line for line in lines if '"<string>"' not in line and "<frozen" not in line).replace(FOLDER + os.sep, "")[-8000:]


def said(error):
    if isinstance(error, SystemExit):
        return "it called exit(%s)" % ("" if error.code is None else error.code)
    if isinstance(error, SyntaxError):
        return "%s: %s" % (type(error).__name__, error.msg)
    try:
        text = str(error)
    except BaseException:
        text = ""
    return type(error).__name__ + (": " + text if text else "")


def told(error):
    file, line = place(error)
    return {"say": said(error)[:2000], "file": file, "line": line, "trace": trace(error), "not_done": getattr(error, "not_done", None) is True,
            "missing": getattr(error, "name", None) or "" if isinstance(error, ModuleNotFoundError) else ""}


class Unknown(Exception):
    pass


UNION = (typing.Union, getattr(types, "UnionType", typing.Union))
PLAIN = {str: "string", int: "integer", float: "number", bool: "boolean", type(None): "null"}
LISTS = (list, set, frozenset, tuple, collections.abc.Sequence, collections.abc.Iterable, collections.abc.Collection, collections.abc.Set, collections.abc.MutableSequence)
MAPS = (dict, collections.abc.Mapping, collections.abc.MutableMapping)
TEXTS = {datetime.datetime: "date-time", datetime.date: "date", datetime.time: "time", uuid.UUID: "uuid"}
BOUNDS = {"ge": "minimum", "gt": "exclusiveMinimum", "le": "maximum", "lt": "exclusiveMaximum", "multiple_of": "multipleOf", "pattern": "pattern"}


def same(v):
    return v


class Types:
    """Makes of types their schemas, and what makes values of them of what JSON has."""

    def __init__(self):
        self.defs = {}
        self.makers = {}

    def of(self, t):
        """Gives schema and maker of a type; a maker that is same leaves values as they are."""
        if typing.get_origin(t) is typing.Annotated:
            return self.annotated(typing.get_args(t))  # it may hold what has no hash
        if t is typing.Any or t is object or t is inspect.Parameter.empty:
            return {}, same
        if t in PLAIN:
            return {"type": PLAIN[t]}, (lambda v: float(v)) if t is float else same
        if t in TEXTS:
            return {"type": "string", "format": TEXTS[t]}, self.moment(t)
        if t is decimal.Decimal:
            return {"type": ["number", "string"]}, lambda v: decimal.Decimal(str(v))
        if t is pathlib.Path:
            return {"type": "string"}, pathlib.Path
        if isinstance(t, typing.TypeVar) or isinstance(t, str):
            raise Unknown("%s is not a type that is known" % (t,))
        origin, args = typing.get_origin(t), typing.get_args(t)
        if origin is typing.Literal:
            return of_values(list(args)), same
        if origin in UNION:
            return self.union(args)
        if hasattr(t, "__supertype__"):
            return self.of(t.__supertype__)
        if t in LISTS or origin in LISTS:
            return self.list(t if origin is None else origin, args)
        if t in MAPS or origin in MAPS:
            if not args:
                return {"type": "object"}, same
            schema, make = self.of(args[1])
            return {"type": "object", "additionalProperties": schema}, same if make is same else lambda v: {k: make(x) for k, x in v.items()}
        if isinstance(t, type) and issubclass(t, enum.Enum):
            return self.named(t, lambda: (of_values([m.value for m in t]), t))
        if dataclasses.is_dataclass(t):
            return self.named(t, lambda: self.record(t))
        if isinstance(t, type) and issubclass(t, dict) and hasattr(t, "__required_keys__"):
            return self.named(t, lambda: self.typed_dict(t))
        raise Unknown("%s is not a type that JSON has; use its types, an enum, a dataclass, a date, or a container of them" % getattr(t, "__name__", t))

    def moment(self, t):
        def make(v):
            if t is datetime.datetime and v.endswith(("Z", "z")):
                v = v[:-1] + "+00:00"
            return t(v) if t is uuid.UUID else t.fromisoformat(v)
        return make

    def annotated(self, args):
        schema, make = self.of(args[0])
        schema = dict(schema)
        for extra in args[1:]:
            if isinstance(extra, str):
                schema["description"] = extra
                continue
            if isinstance(extra, dict):  # of what a JSON Schema says
                schema.update(extra)
                continue
            for name, key in BOUNDS.items():
                value = getattr(extra, name, None)
                if isinstance(value, (int, float, str)) and not isinstance(value, bool):
                    schema[key] = value
            for name, key in (("min_length", "min"), ("max_length", "max")):
                value = getattr(extra, name, None)
                if isinstance(value, int):
                    schema[key + ("Items" if schema.get("type") == "array" else "Length")] = value
            value = getattr(extra, "description", None)
            if isinstance(value, str):
                schema["description"] = value
        return schema, make

    def union(self, args):
        found = [self.of(a) for a in args]
        plain = [s for s, _ in found]
        types = [s.get("type") for s in plain]
        if all(set(s) == {"type"} and isinstance(s["type"], str) for s in plain):
            schema = {"type": types}
        else:
            schema = {"anyOf": plain}
        if all(make is same or a is float for a, (_, make) in zip(args, found)):
            return schema, same
        makers = [make for a, (_, make) in zip(args, found) if a is not type(None)]

        def make(v):
            if v is None:
                return None
            for m in makers:
                try:
                    return m(v)
                except Exception as e:
                    last = e
            raise last
        return schema, make

    def list(self, kind, args):
        unique = kind in (set, frozenset, collections.abc.Set)
        schema, whole = {"type": "array"}, tuple if kind is tuple else frozenset if kind is frozenset else set if unique else same
        if unique:
            schema["uniqueItems"] = True
        if kind is tuple and args and args[-1] is not Ellipsis:
            each = [self.of(a) for a in args]
            schema.update({"prefixItems": [s for s, _ in each], "items": False, "minItems": len(each)})
            return schema, lambda v: tuple(m(x) for (_, m), x in zip(each, v))
        if args:
            schema["items"], make = self.of(args[0])
            if make is not same:
                return schema, lambda v: whole([make(x) for x in v])
        return schema, whole

    def named(self, t, read):
        """Has a type among the definitions, since it may hold itself."""
        name = t.__name__
        ref = {"$ref": "#/$defs/" + name}
        if name not in self.defs:
            self.defs[name] = {}
            self.defs[name], self.makers[name] = read()
            if "enum" in self.defs[name]:
                return self.defs.pop(name), self.makers[name]
        return ref, lambda v: self.makers[name](v)

    def record(self, t):
        hints = typing.get_type_hints(t, include_extras=True)
        props, required, make = {}, [], {}
        for f in dataclasses.fields(t):
            if not f.init:
                continue
            schema, make[f.name] = self.of(hints[f.name])
            if isinstance(f.metadata.get("description"), str):
                schema = dict(schema, description=f.metadata["description"])
            if f.default is not dataclasses.MISSING:
                schema = with_default(schema, f.default)
            elif f.default_factory is dataclasses.MISSING:
                required.append(f.name)
            props[f.name] = schema
        doc = {"type": "object", "properties": props, "additionalProperties": False}
        if required:
            doc["required"] = required
        if t.__doc__ and not t.__doc__.startswith(t.__name__ + "("):
            doc["description"] = inspect.cleandoc(t.__doc__)
        return doc, lambda v: v if isinstance(v, t) else t(**{k: make[k](x) for k, x in v.items()})

    def typed_dict(self, t):
        hints = typing.get_type_hints(t, include_extras=True)
        made = {k: self.of(h) for k, h in hints.items()}
        doc = {"type": "object", "properties": {k: s for k, (s, _) in made.items()}}
        if t.__required_keys__:
            doc["required"] = sorted(t.__required_keys__)
        return doc, lambda v: {k: made[k][1](x) if k in made else x for k, x in v.items()}


def of_values(values):
    """Gives the schema of some values, with their type where all have the same."""
    kinds = {PLAIN.get(type(v)) for v in values}
    kind = kinds.pop() if len(kinds) == 1 else None
    return {"type": kind, "enum": values} if kind else {"enum": values}


def with_default(schema, value):
    if value is None:
        return schema
    try:
        text = json.dumps(value, default=plain, allow_nan=False)
    except (TypeError, ValueError):
        return schema
    return dict(schema, default=json.loads(text))


def plain(v):
    """Gives what JSON has of a value that it has not."""
    if isinstance(v, enum.Enum):
        return v.value
    if dataclasses.is_dataclass(v) and not isinstance(v, type):
        return {f.name: getattr(v, f.name) for f in dataclasses.fields(v)}
    if isinstance(v, (datetime.datetime, datetime.date, datetime.time)):
        return v.isoformat()
    if isinstance(v, decimal.Decimal) and v.is_finite():
        return float(v) if float(v) == v else str(v)
    if isinstance(v, (uuid.UUID, pathlib.PurePath)):
        return str(v)
    if isinstance(v, (set, frozenset)):
        try:
            return sorted(v)
        except TypeError:
            return list(v)
    if isinstance(v, collections.abc.Mapping):
        return dict(v)
    if isinstance(v, (collections.abc.Iterator, collections.abc.ValuesView, collections.abc.KeysView)):
        return list(v)
    raise TypeError(type(v).__name__)


WRITE = json.JSONEncoder(default=plain, allow_nan=False).encode


def unfit(v, at="result", depth=0):
    """Says which part of a value is none of JSON's; "" where all are."""
    if depth > 200:
        return at[:200] + "… is nested too deeply, or within itself"
    if isinstance(v, float) and not math.isfinite(v):
        return "%s is %r, which JSON has not" % (at, v)
    if v is None or isinstance(v, (str, int, float, bool)) and not isinstance(v, enum.Enum):
        return ""
    if isinstance(v, dict):
        for k, x in v.items():
            if not isinstance(k, (str, int, float, bool, type(None))):
                return "%s has a key that is a %s; keys are texts in JSON" % (at, type(k).__name__)
            bad = unfit(x, "%s.%s" % (at, k), depth + 1)
            if bad:
                return bad
        return ""
    if isinstance(v, (list, tuple)):
        for i, x in enumerate(v):
            bad = unfit(x, "%s[%d]" % (at, i), depth + 1)
            if bad:
                return bad
        return ""
    try:
        return unfit(plain(v), at, depth + 1)
    except TypeError:
        return "%s is of the type %s, which JSON has not" % (at, type(v).__name__)


class Session:
    """The session of a call: its state, which may be set, the person, and the key of the call."""

    def __init__(self, given):
        self.state = dict(given.get("state") or {})
        self.person = given.get("person") or ""
        self.key = given.get("key") or ""
        self.files = []
        self.before = json.dumps(self.state, sort_keys=True)

    def attach(self, name, body, type=""):
        """Adds a file to the result of the call."""
        if isinstance(body, str):
            body = body.encode()
        self.files.append({"name": str(name), "type": str(type), "body": base64.b64encode(body).decode()})

    def changes(self, given):
        if json.dumps(self.state, sort_keys=True, default=plain) == self.before:
            return {}
        was = given.get("state") or {}
        out = {k: v for k, v in self.state.items() if k not in was or was[k] != v}
        out.update({k: None for k in was if k not in self.state})
        return out


TABLE = {}


class Beside:
    """Finds what a file imports from beside it where its folder cannot be listed."""

    @staticmethod
    def find_spec(name, path=None, target=None):
        at = os.path.join(FOLDER, name + ".py")
        try:
            open(at).close()
        except OSError:
            return None
        return importlib.util.spec_from_file_location(name, at) if path is None else None


def load():
    name = os.path.splitext(os.path.basename(FILE))[0]
    if not name.isidentifier() or name in sys.modules or name in getattr(sys, "stdlib_module_names", ()):
        name = "functions_" + "".join(c if c.isalnum() else "_" for c in name)
    sys.path.insert(0, FOLDER)
    sys.meta_path.append(Beside)
    spec = importlib.util.spec_from_file_location(name, FILE)
    module = importlib.util.module_from_spec(spec)
    sys.modules[name] = module
    spec.loader.exec_module(module)
    logging = sys.modules.get("logging")
    if logging and not logging.root.handlers:
        logging.basicConfig(level=logging.INFO, format="%(levelname)s %(name)s: %(message)s", stream=LOG)
    return module


def begins(tree):
    """Gives where the functions of a file begin and end, by their names."""
    out = {}
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            out.setdefault(node.name, []).append((min([node.lineno] + [d.lineno for d in node.decorator_list]), node.lineno, node.end_lineno))
    return out


def listed(module):
    with open(FILE, "rb") as f:
        places = begins(ast.parse(f.read()))
    names = getattr(module, "__all__", None) or [n for n in vars(module) if not n.startswith("_")]
    out = []
    for name in names:
        fn = getattr(module, name, None)
        if not inspect.isfunction(inspect.unwrap(fn) if callable(fn) else fn) or inspect.unwrap(fn).__module__ != module.__name__:
            continue
        own = inspect.unwrap(fn)
        first = next((p for p in places.get(own.__name__, []) if own.__code__.co_firstlineno in p[:2]), (own.__code__.co_firstlineno,) * 3)
        entry = {"name": name, "line": first[1], "end": first[2], "doc": inspect.getdoc(fn) or "", "params": [], "returns": None, "defs": {}, "fault": ""}
        try:
            describe(entry, fn)
        except Unknown as e:
            entry["fault"] = str(e)
        except RecursionError:
            entry["fault"] = "a type of it holds itself in a way that has no end"
        except Exception as e:
            entry["fault"] = "its types cannot be read: " + said(e)
        out.append(entry)
    return out


def describe(entry, fn):
    types_ = Types()
    sig = inspect.signature(fn)
    try:
        hints = typing.get_type_hints(fn, include_extras=True)
    except NameError as e:
        raise Unknown("a type of it is not there: %s" % e)
    makers, alone = {}, []
    for name, p in sig.parameters.items():
        if p.kind is p.VAR_POSITIONAL:
            raise Unknown("it takes any number of arguments (*%s), which have no names" % name)
        if p.kind is p.VAR_KEYWORD:
            continue
        if name.startswith("_"):
            if name != "_session" and p.default is p.empty:
                raise Unknown("the parameter %s is hidden from models by its _, and has no default; _session is the one that is given" % name)
            if name == "_session":
                entry["params"].append({"name": name})
            continue
        if p.kind is p.POSITIONAL_ONLY:
            alone.append(name)
        hint = hints.get(name)
        param = {"name": name, "schema": None, "required": p.default is p.empty, "says": ""}
        if name in hints:
            try:
                schema, make = types_.of(hint)
            except Unknown as e:
                raise Unknown("the type of %s: %s" % (name, e))
            if make is not same:
                makers[name] = make
            param["says"] = schema.get("description", "") if typing.get_origin(hint) is typing.Annotated else ""
            param["schema"] = schema
        if p.default is not p.empty and p.default is not None:
            param["schema"] = with_default(param["schema"] or {}, p.default)
        entry["params"].append(param)
    if hints.get("return", inspect.Signature.empty) is not inspect.Signature.empty:
        try:
            entry["returns"] = types_.of(hints["return"])[0] or None
        except Unknown:
            pass  # what it gives is seen when it gives it
    entry["defs"] = types_.defs
    session = "_session" in sig.parameters
    waits = inspect.iscoroutinefunction(inspect.unwrap(fn))
    TABLE[entry["name"]] = (fn, makers, alone, session, waits)


LOOP = None


def wait_for(awaitable):
    global LOOP
    if LOOP is None:
        LOOP = asyncio.new_event_loop()
    return LOOP.run_until_complete(awaitable)


def call(m):
    LOG.room = MOST
    fn, makers, alone, session, waits = TABLE[m["call"]]
    args = m["args"]
    for name, make in makers.items():
        if name in args:
            try:
                args[name] = make(args[name])
            except Exception as e:
                tell({"n": m["n"], "raises": {"say": "the argument %s cannot be made of what was given: %s" % (name, said(e)), "file": "", "line": 0, "trace": "", "not_done": True}})
                return
    if session:
        s = args["_session"] = Session(m.get("session") or {})
    first = [args.pop(n) for n in alone if n in args]
    try:
        v = fn(*first, **args)
        if waits:
            v = wait_for(v)
    except BaseException as e:
        if os.getpid() != OWN:
            os._exit(1)
        LOG.end()
        if isinstance(e, KeyboardInterrupt):
            raise
        tell({"n": m["n"], "raises": told(e)})
        return
    if os.getpid() != OWN:  # it forked, and this is what it left
        os._exit(0)
    if LOG.rest:
        LOG.end()
    try:
        data = '{"n":%d,"returns":%s' % (m["n"], WRITE(v))
        if session:
            data += ',"sets":%s,"files":%s' % (WRITE(s.changes(m.get("session") or {})), WRITE(s.files))
    except (TypeError, ValueError, RecursionError) as e:
        tell({"n": m["n"], "unfit": unfit(v) or "the result, or the state, is not JSON: " + said(e)})
        return
    data = (data + "}\n").encode()
    while data:
        data = data[os.write(WIRE_OUT, data):]


def main():
    try:
        module = load()
        if os.getpid() != OWN:
            os._exit(0)
        found = listed(module)
    except BaseException as e:
        if os.getpid() != OWN:
            os._exit(1)
        LOG.end()
        tell({"broken": told(e)})
        return
    LOG.end()
    linecache.clearcache()
    tell({"functions": found})
    for line in WIRE_IN:
        call(READ(line.decode()))


main()
