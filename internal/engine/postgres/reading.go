package postgres

import (
	"context"
	"strings"

	"gentle-harbor/internal/engine"
)

// reading says which statements read ("SQL Commands", PostgreSQL's manual), and which of the
// engine's functions do more than that ("System Administration Functions", "Sequence Manipulation
// Functions", "Server-Side Functions" of large objects, "XML Functions", "Text Search
// Functions"): a transaction that only reads does not hold them, or not in each version.
var reading = engine.Reading{
	Reads:    []string{"select", "with", "values", "table", "show", "explain", "copy"},
	Unless:   []string{"into", "for update", "for no key update", "for share", "for key share", "analyze", "analyse"},
	Inner:    []string{"insert", "update", "delete", "merge"},
	Explains: []string{"explain"}, ExplainsChanges: true,
	Outside: strings.Fields(`binary_upgrade_* brin_desummarize_range brin_summarize_* gin_clean_pending_list nextval setval set_config setseed
		lo_creat lo_create lo_export lo_from_bytea lo_import lo_open lo_put lo_truncate* lo_unlink lowrite
		pg_advisory_* pg_try_advisory_* pg_cancel_backend pg_terminate_backend pg_notify pg_reload_conf pg_rotate_logfile* pg_log_backend_memory_contexts pg_log_standby_snapshot
		pg_backup_* pg_start_backup pg_stop_backup pg_create_* pg_copy_* pg_drop_* pg_export_snapshot pg_import_* pg_logical_emit_message pg_logical_slot_get_* pg_nextoid
		pg_promote pg_replication_origin_* pg_replication_slot_advance pg_sync_* pg_stat_reset* pg_stat_force_next_flush pg_stop_making_pinned_objects pg_switch_* pg_wal_replay_pause
		pg_wal_replay_resume pg_xlog_replay_* pg_clear_* pg_restore_* pg_set_* pg_current_xact_id txid_current
		cursor_to_xml* query_to_xml* ts_rewrite ts_stat`),
	Transaction: []string{"begin", "start", "commit", "end", "rollback", "abort", "savepoint", "release"},
	Beginning:   []string{"begin", "start"},
	Settings:    options,
	Modes:       []string{"transaction_read_only", "default_transaction_read_only"},
	Destroys:    []string{"drop database", "drop schema", "drop table", "truncate"},
	Wherever:    []string{"update", "delete"},
	OnlyAfter:   "set transaction read only",
}

// Foreign implements engine.Catalogue. The engine's own functions have numbers below that of the
// first object of people ("System Catalog Initial Data", PostgreSQL's manual).
func (s *session) Foreign(ctx context.Context, names []string) ([]string, error) {
	const most = 63 // bytes of a name
	var cut []string
	for _, name := range names {
		cut = append(cut, literal(name[:min(len(name), most)]))
	}
	rows, err := s.texts(ctx, "select distinct proname from pg_catalog.pg_proc where proname in ("+strings.Join(cut,
		", ")+") and oid >= 16384 order by proname")
	if err != nil {
		return nil, err
	}
	var foreign []string
	for _, row := range rows {
		foreign = append(foreign, string(row[0]))
	}
	return foreign, nil
}
