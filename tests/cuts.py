"""The cuts that ``mutations`` makes: which place of which file becomes what, and which tests should notice."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Cut:
    """``old`` in a file below ``src/everyshelf`` becomes ``new``; ``tests`` are those that should notice."""

    file: str
    old: str
    new: str
    tests: tuple[str, ...]

    def __str__(self) -> str:
        return f"{self.file}: {' '.join(self.old.split())[:70]}"


_SOAK = ("tests.service.test_soak.HeadsReadTests",)
_GROWTH = ("tests.service.test_soak.GrowthTests",)
_KNOWN = ("tests.service.test_known_versions",)
_PAGING = ("tests.service.test_paging",)
_LINES = ("tests.core.test_commit_sets",)
_NETS = ("tests.core.test_nets",)
_DAMAGE = ("tests.core.test_damage", "tests.core.test_content")
_ONE_SHELF = ("tests.service.test_one_shelf",)
_STORES = ("tests.core.test_stores",)
_ACTS = ("tests.service.test_acts.WholeTests", "tests.service.test_acts.OnceTests")
_SHELVES = ("tests.service.test_shelves",)
_SAFETY = ("tests.cli.test_desk_safety",)
_PLACES = ("tests.service.test_addresses", "tests.core.test_promotion")
_REACH = ("tests.destinations.test_reach",)
_PEOPLE = ("tests.service.test_accounts", "tests.service.test_log_and_people")
_SLOW = ("tests.service.test_connections.LimitTests",)
_DECODING = ("tests.core.test_decoding",)
_CELLS = ("tests.core.test_editing.CellTests", "tests.core.test_tables_law.ColumnTests")
_READ_ONLY = ("tests.service.test_full_disk.ReadOnlyDiskTests",)
_EVIL_GIT = ("tests.service.test_hostile_git_servers.RefTests",)
_FIRST_DRIFT = ("tests.service.test_first_drift.CapturedTests",)
_DRAFT_KINDS = ("tests.console.test_editing.CellTests",)
_LAWS = ("tests.gitside.test_mapping",)
_PUSHES = ("tests.service.test_git_served.PushTests",)
_READS = ("tests.service.test_git_served.ReadingTests",)
_LINKS = ("tests.service.test_git_links",)
_PARTS = ("tests.service.test_git_parts",)
_UNFOLDED = ("tests.service.test_git_unfolded",)
_CALLS = ("tests.service.test_git_links.CalledTests",)
_TOOLS = ("tests.cli.test_git_tools.PlainRepositoryTests",)
_NOTES = ("tests.cli.test_git_tools.ContentNoteTests",)
_EVENTS = ("tests.service.test_events",)
_TASKS = ("tests.service.test_tasks",)
_ORIGINS = ("tests.core.test_origins", "tests.service.test_origins")
_USES = ("tests.core.test_uses", "tests.service.test_uses")
_LINEAGE = ("tests.service.test_lineage",)
_SPREAD = ("tests.core.test_spread",)
_IN_PARTS = ("tests.core.test_spread_profiles",)
_OUT = ("tests.service.test_spreading.SpreadOutTests",)
_SHARED = ("tests.service.test_in_place.SharedTests",)
_SEEN = ("tests.service.test_rights_looking_back",)
_FIND = ("tests.core.test_finding", "tests.service.test_find")
_COMMITS = ("tests.service.test_commit_places",)
_NUMBERS = ("tests.core.test_number_pages",)
_PAGES = ("tests.core.test_table_pages",)
_AHEAD = ("tests.service.test_git_ahead",)
_TREES = ("tests.gitside.test_git_repository",)
_RIGHTS = ("tests.service.test_rights.ScopeTests", "tests.service.test_rights")

CUTS = [
    # Origins: places and not keys, sides of merges, looks, moves, rows
    Cut(
        "core/compare/outlines.py",
        "            if self.trail is not None and not written_alike(before.value, after.value):\n"
        "                self.children(before, after, path, cosmetic=True)  # members of a map stand elsewhere\n",
        "",
        _ORIGINS,
    ),
    Cut(
        "core/origins/trees.py",
        "        return left if left != version else right\n",
        "        return left\n",
        _ORIGINS,
    ),
    Cut("core/origins/trees.py", '        if field.touch == "looks":\n', "        if False:\n", _ORIGINS),
    Cut("core/origins/lines.py", "np.where(one.own != version, one.own, other.own)", "one.own", _ORIGINS),
    Cut(
        "core/compare/carried_lines.py",
        "    moved = _moved(old, new, left_old, left_new)\n",
        "    moved = []\n",
        _ORIGINS,
    ),
    Cut(
        "service/shelves/actions/version_parents.py",
        "        if row.content and row.commit_id in line:\n            if _holds(commit, row):\n",
        "        if row.content:\n            if row.content:\n",
        ("tests.service.test_jobs.JobTests",),
    ),
    Cut(
        "service/shelves/actions/undoing.py",
        "        commit.root, root, commit, None, moves,",
        "        commit.root, root, commit, None, [],",
        ("tests.service.test_undo",),
    ),
    Cut(
        "service/shelves/actions/arranging.py",
        "    touched = set(rows[: _MOST_APART + 1])\n",
        "    touched = set[str]()\n",
        ("tests.service.test_arranging",),
    ),
    Cut(
        "service/shelves/actions/arranging.py",
        'self._orders.pop("effect", None)',
        "pass",
        ("tests.service.test_arranging",),
    ),
    Cut(
        "service/jobs/actions.py",
        '            raise GaveWayError("others waited")\n',
        "            pass\n",
        ("tests.service.test_jobs.TurnTests",),
    ),
    Cut(
        "service/reports/actions/version_places.py",
        "there is not None and there.pk == version.pk",
        "there is not None",
        ("tests.service.test_commit_places",),
    ),
    Cut(
        "service/shelves/actions/version_parents.py",
        "        if row is not None and row not in found:\n",
        "        if row is not None and not found:\n",
        _ORIGINS,
    ),
    Cut(
        "service/shelves/actions/version_parents.py",
        "            last = last or row\n",
        "",
        _ORIGINS,
    ),
    Cut(
        "service/shelves/actions/copying.py",
        "parents = [made[parent.pk] for parent in parents_of(version, rows, lineage) if parent.pk in made]",
        "parents = list(made.values())[-1:]",
        _ORIGINS,
    ),
    Cut("service/origins/actions/rows.py", "    if not of_row.is_known:\n", "    if False:\n", _ORIGINS),
    Cut("core/uses/sql.py", "    if column.table:\n", "    if False:\n", _USES),
    Cut("core/uses/sql.py", "        elif given == ANY:\n", "        elif False:\n", _USES),
    Cut("core/uses/frames.py", "made[after], made[before] = frame.origins(before), frozenset()", "pass", _USES),
    Cut(
        "core/uses/impact.py",
        "                if not places or link.holder == start:\n",
        "                if False:\n",
        _USES,
    ),
    Cut("core/uses/impact.py", "    if own:  # a table", "    if False:  # a table", _USES),
    Cut(
        "service/uses/actions/graph.py",
        "content = self.states[holder.shelf].content(holder.path)",
        "content = next(iter(holders[holder]))",
        _USES,
    ),
    Cut("core/uses/names.py", "return first == path if first is not None else", "return", _USES),
    Cut("core/tables/spread.py", "    if pair.is_native:", "    if False:", _SPREAD),
    Cut("core/tables/spread.py", '        raise NoKeyError("not unique")', "        pass", _SPREAD),
    Cut("core/tables/stretches.py", "    if stretch.made_by != made_by():", "    if False:", _SPREAD),
    Cut("core/tables/profile_parts.py", "np.maximum(self.registers, other.registers)", "self.registers", _IN_PARTS),
    Cut("core/tables/profile_parts.py", "self.filled + other.filled", "self.filled", _IN_PARTS),
    Cut(
        "core/tables/profiles.py",
        "if source is not None and shared else None",
        "if source is not None else None",
        _IN_PARTS,
    ),
    Cut("core/tables/fingerprint.py", "[sum(both) for both in zip(*parts, strict=True)]", "parts[0]", _IN_PARTS),
    Cut(
        "service/base/spreading.py",
        "        for place, given in list(left.items()):",
        "        for place, given in []:",
        _OUT,
    ),
    Cut(
        "service/base/spreading.py",
        "            failed.append(why)",
        "            del left[place]; failed.append(why)",
        _OUT,
    ),
    Cut("service/base/spreading.py", "            if held[:_WORD_BYTES] != self.word:", "            if False:", _OUT),
    Cut(
        "service/in_place/actions/fingerprinting.py",
        'if _keys(row) == NO_KEYS else "this machine"',
        'if True else "this machine"',
        _SHARED,
    ),
    Cut("service/in_place/actions/fingerprinting.py", "if sha256 and row.sha256 in", "if row.sha256 in", _SHARED),
    Cut("service/uses/actions/graph.py", "visible_shelves(self._caller)", "Shelf.objects.all()", _SEEN),
    Cut("service/lineage/actions/following.py", "visible_shelves(self._caller)", "Shelf.objects.all()", _SEEN),
    Cut(
        "service/lineage/actions/following.py",
        "parts.filter(artifact=key.artifact) if key.artifact is not None else parts.filter(path=key.path)",
        "parts.filter(path=key.path)",
        _LINEAGE,
    ),
    Cut("service/lineage/actions/recording.py", " if held not in reads]", "]", _LINEAGE),
    # Find: rights, heads, what people type
    Cut(
        "service/find/actions/finding.py",
        '    tests.append(f"f.shelf_id IN ({_marks(shelves)})")\n    values += [shelf.pk for shelf in shelves]\n',
        "",
        _FIND,
    ),
    Cut(
        "service/find/actions/finding.py",
        "    rows = Commit.objects.filter(shelf__in=shelves)\n",
        "    rows = Commit.objects.all()\n",
        _FIND,
    ),
    Cut(
        "service/find/actions/finding.py",
        "{'LEFT ' if history else ''}JOIN find_headversion",
        "LEFT JOIN find_headversion",
        _FIND,
    ),
    Cut(
        "service/find/actions/heads.py",
        "            HeadVersion.objects.filter(branch=branch).delete()\n",
        "            pass\n",
        _FIND,
    ),
    Cut(
        "core/finding/words.py",
        "        pieces = _HUMP.split(word) if humps else [word]\n",
        "        pieces = [word]\n",
        _FIND,
    ),
    Cut(
        "core/finding/words.py",
        '    return "".join(c for c in unicodedata.normalize("NFKD", word.casefold()) if not unicodedata.combining(c))\n',
        "    return word.casefold()\n",
        _FIND,
    ),
    # One commit and what it is part of; reports
    Cut(
        "service/reports/actions/commit_places.py",
        "        if commit.pk in lineage.ancestors(tag.commit_id):\n",
        "        if True:\n",
        _COMMITS,
    ),
    Cut("service/shelves/actions/makers.py", "line - lineage.ancestors(before.commit.pk)", "line", _COMMITS),
    # Content
    Cut("core/content/segments.py", "        seen.torn_at = own.synced_end\n", "", _DAMAGE),
    Cut(
        "core/content/segments.py",
        "            own.appender.sync()\n",
        "            pass\n",
        (*_NETS, *_DAMAGE),
    ),
    Cut("core/content/segments.py", "            self._forget_unsynced(store)\n", "", _DAMAGE),
    # Stores, and one shelf alone
    Cut("service/keeping/one_shelf.py", "{way.shelf}.id IS NOT {shelf:d}", "{way.shelf}.id <> {shelf:d}", _ONE_SHELF),
    Cut("service/keeping/one_shelf.py", "        _drop_strangers(records)\n", "", _ONE_SHELF),
    Cut("service/keeping/one_shelf.py", "        _forget_words(records)\n", "", _ONE_SHELF),
    Cut("service/keeping/one_shelf.py", "            records.execute(made)\n", "            pass\n", _ONE_SHELF),
    Cut(
        "core/content/gathering.py", "                self._base(base_of(record))\n", "                pass\n", _STORES
    ),
    Cut("core/content/store.py", "self.segments.holds(identity, into)", "self.segments.holds(identity)", _STORES),
    Cut("core/content/compacting.py", "segments.sealed(store)", "segments.sealed()", _STORES),
    Cut(
        "core/content/healing.py",
        "kept = NewSegments(place, store_of(directory.segment))",
        "kept = NewSegments(place)",
        _STORES,
    ),
    Cut(
        "service/web/middleware.py",
        "in_store(_store_for(request.path))",
        "in_store(MAIN)",
        ("tests.service.test_stores",),
    ),
    Cut("service/jobs/actions.py", "in_store(store)", "in_store(MAIN)", ("tests.service.test_stores",)),
    Cut("service/keeping/needed.py", "if len(stores) > 1:", "if len(stores) > 9:", ("tests.service.test_stores",)),
    Cut(
        "service/keeping/needed.py",
        "return (everything - elsewhere) |",
        "return set() |",
        ("tests.service.test_stores", "tests.service.test_storage"),
    ),
    Cut(
        "core/content/records.py",
        "    if check(CHECK_BYTES, segment.encode(), head, payload) != data[_HEAD.size : HEAD_BYTES]:\n        return None\n",
        "",
        _DAMAGE,
    ),
    Cut(
        "core/content/records.py",
        "    if _with_check(bare, check(_HEAD_CHECK.size, segment.encode(), bare)) != head:\n        return None\n",
        "",
        _DAMAGE,
    ),
    Cut("core/content/records.py", "salt = segment.encode()", 'salt = b""', _DAMAGE),
    # History
    Cut(
        "core/history/trees.py",
        '_Block(rows[-1][0] if rows else ""',
        '_Block(rows[0][0] if rows else ""',
        _NETS,
    ),
    Cut("core/history/trees.py", "if end == at and not carried:", "if end == at:", _NETS),
    Cut("core/history/trees.py", "        if final and open_rows:\n", "        if False:\n", _NETS),
    # Merging and comparing
    Cut(
        "core/merge/artifact.py",
        "    if wrong:\n        return _by_side",
        "    if False:\n        return _by_side",
        _NETS,
    ),
    Cut("core/merge/artifact.py", "if again is not value and not same_value(again, value):", "if False:", _NETS),
    Cut("core/merge/lines.py", "    return up, down\n", "    return low, high\n", _NETS),
    Cut("core/merge/lines.py", "if low < high and change.lines:", "if low < high or change.lines:", _NETS),
    Cut("core/merge/references.py", "    if text == key:\n", "    if False:\n", _NETS),
    Cut("core/merge/references.py", "return any(word.search(m[0]) for m in", "return any(False for m in", _NETS),
    Cut("core/merge/references.py", '    if not re.search(r"\\s", text):\n', "    if True:\n", _NETS),
    Cut("core/compare/realign.py", "_LEAST_MATCHED = 0.5", "_LEAST_MATCHED = 0.0", _NETS),
    Cut("core/compare/realign.py", "_MOST_KEPT = 0.5", "_MOST_KEPT = 1.0", _NETS),
    # Promotion
    Cut(
        "core/promotion/folder.py",
        "        to_disk(file)\n        os.fchmod(file.fileno(), 0o444)\n",
        "        os.fchmod(file.fileno(), 0o444)\n",
        _NETS,
    ),
    Cut(
        "core/promotion/folder.py",
        "        to_disk(file)\n        os.fchmod(file.fileno(), 0o444)\n",
        "        to_disk(file)\n",
        _NETS,
    ),
    Cut("core/durable.py", "        os.fsync(descriptor)\n", "        pass\n", _NETS),
    Cut("core/durable.py", "    os.fsync(file.fileno())\n", "    pass\n", _NETS),
    Cut(
        "core/promotion/folder.py",
        "os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK",
        "os.O_RDONLY | os.O_NONBLOCK",
        _PLACES,
    ),
    Cut(
        "service/claims/actions/steps.py",
        "    return one[:shorter] == other[:shorter]",
        "    return one == other",
        _PLACES,
    ),
    Cut(
        "destinations/reach.py",
        "(self._any and address.is_global)):\n                raise",
        "self._any):\n                raise",
        _REACH,
    ),
    Cut(
        "destinations/reach.py",
        "        elif not (self._network_of(address) or (self._any and address.is_global)):",
        "        elif False:",
        _REACH,
    ),
    Cut(
        "service/environments/actions/settled.py",
        "    return quiet is not None and quiet_since(environment) == quiet\n",
        "    return True\n",
        ("tests.service.test_environments.PromotionTests.test_what_was_read_in_between_is_not_judged",),
    ),
    # The exchange with Git
    Cut(
        "gitside/mapping.py",
        "        paths = tuple(self._kept_paths(made, there.tree))\n",
        "        paths = ()\n",
        _LAWS,
    ),
    Cut("gitside/mapping.py", "return old.mode\n", "return FILE\n", _PUSHES),
    Cut("gitside/mapping.py", 'b"" if uid and uid == self.shelf_commit else self.residue', "self.residue", _LAWS),
    Cut("gitside/layout.py", "if note is not None or notes.read_git_note(data) is not None:", "if False:", _LAWS),
    Cut("gitside/idents.py", "shown.strip(_CRUD).strip()", "shown.strip(_CRUD)", _LAWS),
    Cut(
        "service/exchange/actions/receiving.py",
        "at != command.before or (at != NO_OBJECT and not built_on(at, command.after))",
        "False",
        _PUSHES,
    ),
    Cut(
        "service/exchange/actions/receiving.py",
        "        if current.head_id != branch.head_id:\n",
        "        if True:\n",
        _PUSHES,
    ),
    Cut("service/exchange/actions/repositories.py", "    _unlock(folder)\n", "", _READS),
    Cut(
        "service/exchange/actions/syncing.py",
        "if branch.head is None or branch.head.pk in lineage.ancestors(came.pk):",
        "if True:",
        _LINKS,
    ),
    Cut("gitside/causes.py", 'r"returned error: 403|', 'r"', _LINKS),
    Cut(
        "service/exchange/actions/bringing_out.py",
        "    _move_branches(link)\n    _bring_tags(link)\n",
        "    _bring_tags(link)\n",
        _PARTS,
    ),
    Cut(
        "service/exchange/actions/bringing_out.py",
        "            if len(above) < 2 and plain == before.plain:\n                sides[key]",
        "            if False:\n                sides[key]",
        _PARTS,
    ),
    # Parts of files beside them or instead of them
    Cut(
        "service/exchange/actions/laying.py",
        "    if found is not None and found.id == entry.id:",
        "    if False:",
        _UNFOLDED,
    ),
    Cut("service/exchange/actions/laying.py", "    if not left:\n", "    if True:\n", _UNFOLDED),
    Cut(
        "service/exchange/actions/laying.py",
        "            self.clash = parts\n",
        "            self.clash = None\n",
        _UNFOLDED,
    ),
    Cut(
        "service/exchange/actions/laying.py",
        "    if trees.find(before.plain, folder) is not None or",
        "    if",
        _UNFOLDED,
    ),
    Cut("service/exchange/actions/syncing.py", "                _bring_level(run, there)\n", "", _UNFOLDED),
    Cut("service/exchange/actions/syncing.py", "            _note_waiting_parts(run, there)\n", "", _UNFOLDED),
    Cut(
        "service/exchange/actions/bringing_out.py",
        "            if key <= link.as_is_until:",
        "            if False:",
        _UNFOLDED,
    ),
    Cut("service/exchange/actions/bringing_out.py", "    _bring_tags(link)\n\n", "\n", _UNFOLDED),
    Cut(
        "service/exchange/actions/bringing_back.py",
        "        known = _known(link.shelf, side, above, root)",
        "        known = None",
        _PARTS,
    ),
    Cut(
        "service/exchange/actions/links.py",
        "not hmac.compare_digest(wanted",
        "False and not hmac.compare_digest(wanted",
        _CALLS,
    ),
    # Tools for plain repositories
    Cut("gitside/plain/merging.py", "            if status > 0:", "            if False:", _TOOLS),
    Cut("gitside/plain/attributes.py", "    kept = before + after\n", "    kept = before\n", _TOOLS),
    Cut("gitside/plain/filtering.py", '        if state != "note":\n', "        if True:\n", _NOTES),
    # Events and tasks
    Cut(
        "service/events/actions/collecting.py",
        "    return not webhook.about or act in webhook.about or",
        "    return True or",
        _EVENTS,
    ),
    Cut("service/events/actions/delivering.py", "follow_redirects=False", "follow_redirects=True", _EVENTS),
    Cut("service/events/actions/delivering.py", "    if status == _GONE", "    if False", _EVENTS),
    Cut(
        "service/tasks/actions/mentions.py",
        "found.read_with, found.seen = found.pattern, 0",
        "found.read_with = found.pattern",
        _TASKS,
    ),
    Cut("service/tasks/actions/finding.py", "            if whole and task", "            if task", _TASKS),
    # Transactions
    Cut("service/base/acts.py", "                transaction.set_rollback(True)\n", "                pass\n", _ACTS),
    Cut("service/base/acts.py", "    with transaction.atomic():\n        yield\n", "    yield\n", _ACTS),
    Cut(
        "service/http/views.py",
        "            response.data = self._keyed.keep(response.status_code, response.data)\n",
        "",
        _ACTS,
    ),
    Cut(
        "service/http/views.py",
        "        with open_act(self._stop_if_answered) as act:",
        "        with open_act(lambda: None) as act:",
        _ACTS,
    ),
    Cut(
        "service/shelves/actions/recording.py",
        "                if (branch.head_id or None) != (self.parents[0].pk if self.parents else None):\n",
        "                if False:\n",
        ("tests.service.test_acts", "tests.service.test_concurrency", "tests.service.test_shelves"),
    ),
    Cut("service/shelves/actions/versions.py", "taken = change.path in elsewhere or ", "taken = ", _SHELVES),
    # Rights
    Cut(
        "service/rights.py",
        '"commit to a guarded branch": ("keeper"',
        '"commit to a guarded branch": ("author"',
        _RIGHTS,
    ),
    Cut("service/rights.py", '"tag": ("keeper", "promote")', '"tag": ("keeper", "write")', _RIGHTS),
    Cut("service/rights.py", '"change members": ("owner", "admin")', '"change members": ("owner", "write")', _RIGHTS),
    Cut("service/rights.py", "    require_scope(caller, scope)\n\n\ndef may", "\n\ndef may", _RIGHTS),
    # The desk
    Cut("desk/states.py", "        if left_out:\n", "        if False:\n", _SAFETY),
    # The server
    Cut(
        "service/web/server.py",
        "        reason = request.too_slow(now)\n",
        "        reason = None\n",
        _SLOW,
    ),
    Cut(
        "service/web/server.py",
        "        if reason is None and wall - self.last_activity > STALLED_SECONDS:\n",
        "        if False:\n",
        _SLOW,
    ),
    Cut(
        "desk/isolated.py",
        "                _copy(near.root / artifact.path, target)",
        "                os.link(near.root / artifact.path, target)",
        ("tests.cli.test_isolated_runs",),
    ),
    Cut(
        "desk/isolated.py", "        if strays:", "        if not strays and strays:", ("tests.cli.test_isolated_runs",)
    ),
    Cut("core/tables/orders.py", '">=" if first.is_down else "<="', '"<="', _PAGES),
    Cut("core/tables/orders.py", "return _count_of(engine, kept) >= asked.reach", "return True", _PAGES),
    Cut("core/tables/orders.py", "{1 - share if first.is_down else share}", "{share}", _PAGES),
    Cut("core/tables/paging.py", "if source.row_count >= LARGE:", "if False:", _PAGES),
    Cut("core/content/segments.py", " or len(seen.locations) >= SEGMENT_RECORDS", "", ("tests.core.test_content",)),
    Cut("service/base/paging.py", "rows.exclude(name=first)", "rows", ("tests.service.test_paging",)),
    Cut("service/base/paging.py", " | Q(created=time, pk__lt=number)", "", ("tests.service.test_paging",)),
    Cut("service/base/data_folder.py", "time.sleep(_LOOK_SECONDS)", "end = 0.0", ("tests.service.test_processes",)),
    Cut("gitside/ahead.py", "before or trees.empty, after)", "trees.empty, after)", _AHEAD),
    Cut("service/exchange/actions/ahead.py", "divmod(place, _BATCH)", "divmod(place + 1, _BATCH)", _AHEAD),
    # Parquet told by its numbers; trees as deltas; jobs that end where they are told to; threads that take turns
    Cut("core/content/unpacked_versions.py", "in_place.get(part)))", "None))", _NUMBERS),
    Cut(
        "core/content/number_deltas.py",
        "np.lexsort((counts, pairs >> 32))",
        "np.lexsort((-counts, pairs >> 32))",
        _NUMBERS,
    ),
    Cut("core/content/number_deltas.py", "shift, is_exact = _found(", "_, is_exact = _found(", _NUMBERS),
    Cut("core/content/numbers.py", "if found.stream() != stream:", "if False:", _NUMBERS),
    Cut("core/content/thrift.py", "if self._left < 0:", "if False:", _NUMBERS),
    Cut(
        "gitside/repository.py",
        "self._steps.get(base, MOST_STEPS)",
        "0 if base in self._waiting else MOST_STEPS",
        _TREES,
    ),
    Cut("gitside/tree_deltas.py", "min(len(before), len(after)) - head)", "len(before))", _TREES),
    Cut("service/shelves/jobs.py", "follow(commit, step)", "follow(commit, run.give_way)", _FIND),
    Cut("service/serve.py", "    sys.setswitchinterval(TURN_SECONDS)\n", "", ("tests.service.test_turns.ThreadTests",)),
    # Many commits on one shelf: lines as bits, jobs that read what came
    Cut("service/find/actions/reading.py", "    if came.were_read:", "    if True:", _SOAK),
    Cut(
        "service/shelves/actions/version_parents.py",
        "for row in self._rows.iterator(chunk_size=_AT_ONCE):",
        "for row in list(self._rows):",
        _GROWTH,
    ),
    Cut(
        "service/shelves/actions/known_versions.py",
        "self._versions.pop((shelf, path, content), None)",
        "pass",
        _KNOWN,
    ),
    Cut(
        "service/shelves/actions/known_versions.py",
        "self._beside.pop((shelf, version, backwards), None)",
        "pass",
        _KNOWN,
    ),
    Cut("service/shelves/actions/short_names.py", "(path for path, _ in trees.walk(root))", "(paths)", _KNOWN),
    Cut(
        "service/base/processes.py",
        "ctypes.CDLL(None).malloc_trim(0)",
        "pass",
        ("tests.service.test_processes.MemoryTests",),
    ),
    Cut("service/base/paging.py", "{by}__lt", "{by}__lte", _PAGING),
    Cut("service/experiments/actions.py", "_answer(one.pk, one.runs_made,", "_answer(one.pk, 0,", _PAGING),
    Cut(
        "core/history/trees.py",
        "_shared(_leaf_of(held).entries)",
        "_leaf_of(held).entries",
        ("tests.core.test_history.TreeTests",),
    ),
    Cut("core/history/commit_sets.py", "return _joined(_packed(flags), known)", "return _packed(flags)", _LINES),
    Cut("core/history/commit_sets.py", "                    heappush(heap, -place)\n", "", _LINES),
    Cut(
        "decoding.py",
        "with _lock:\n            known = _json[wanted]",
        "if True:\n            known = _json[wanted]",
        _DECODING,
    ),
    Cut("core/editing/cells.py", "        _check_form(edit, forms[edit.column])\n", "", _CELLS),
    Cut("core/tables/columns.py", 'return "retyped"  # a text can', 'return "widened"  # a text can', _CELLS),
    Cut("core/content/place.py", "if error.errno != errno.EROFS:", "if True:", _READ_ONLY),
    Cut("service/problems.py", "    if is_read_only(error):\n", "    if False:\n", _READ_ONLY),
    Cut("service/exchange/actions/syncing.py", "known.shared = found.shared or", "known.shared =", _LINKS),
    Cut("service/exchange/actions/syncing.py", '"diverged" if has_news else "behind"', '"behind"', _LINKS),
    Cut("gitside/remote.py", "if len(lines) > _MOST_REFS:", "if False:", _EVIL_GIT),
    Cut("service/shelves/actions/refs.py", "or not name.isprintable() ", "", _EVIL_GIT),
    Cut("service/environments/actions/reality.py", "here - alike", "here", _FIRST_DRIFT),
    Cut(
        "service/shelves/actions/listing.py",
        "**_with_kinds(at.commit, [told], {path: entry})[0]",
        "**told",
        _DRAFT_KINDS,
    ),
]
