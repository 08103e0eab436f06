package mysql

import (
	"context"
	"strings"

	"gentle-harbor/internal/engine"
)

// reading says which statements read ("SQL Statements", both manuals), and which of the engine's
// functions do more than that ("Locking Functions", "Sequence Functions", "String Functions"): a
// transaction that only reads does not hold them.
func reading() engine.Reading {
	return engine.Reading{
		Reads: []string{"select", "with", "values", "table", "show", "explain", "describe", "desc", "help"},
		Unless: []string{"into", "for update", "for share", "lock in share mode", "analyze", "next value for",
			"procedure"},
		Inner:       []string{"update", "delete", "insert", "replace"},
		Explains:    []string{"explain", "describe", "desc"},
		Outside:     []string{"get_lock", "release_lock", "release_all_locks", "nextval", "setval", "load_file"},
		Native:      natives(),
		Transaction: []string{"begin", "start", "commit", "rollback", "savepoint", "release"},
		Beginning:   []string{"begin", "start transaction"},
		Settings:    options,
		Modes:       []string{"transaction_read_only", "tx_read_only", "autocommit", "completion_type"},
		Destroys:    []string{"drop database", "drop schema", "drop table", "truncate"},
		Wherever:    []string{"update", "delete"},
		OnlyBefore:  "set transaction read only",
	}
}

// natives are the functions of both products ("Built-In Function and Operator Reference", the
// manual of MySQL; "Built-in Functions", MariaDB's), and the reserved words behind which a
// bracket can stand. A function that people have made has another name, or its database before
// it, or is found by Foreign. What is left out here is only taken for a change.
func natives() map[string]bool {
	all := map[string]bool{}
	for _, word := range strings.Fields(`
		abs acos add_months adddate addtime aes_decrypt aes_encrypt against all and any any_value as ascii asin atan atan2 avg benchmark between bin
		bin_to_uuid binary binlog_gtid_pos bit_and bit_count bit_length bit_or bit_xor by case cast ceil ceiling char char_length character_length charset chr
		coalesce coercibility collate collation column_add column_check column_create column_delete column_exists column_get column_json column_list columns compress
		concat concat_ws connection_id conv convert convert_tz cos cot count crc32 crc32c cume_dist curdate current_date current_time current_timestamp
		current_user curtime database date date_add date_format date_sub datediff datetime day dayname dayofmonth dayofweek dayofyear dec decimal decode
		decode_histogram default degrees dense_rank des_decrypt des_encrypt distinct distinctrow div double else elt encode encrypt except exists exp
		export_set extract extractvalue false field find_in_set first_value float floor format format_bytes format_pico_time found_rows from from_base64
		from_days from_unixtime geomcollection geometrycollection get_format get_lock greatest group group_concat grouping gtid_subset gtid_subtract having hex
		hour icu_version if ifnull in index inet6_aton inet6_ntoa inet_aton inet_ntoa inner insert instr int integer intersect interval into is is_free_lock
		is_ipv4 is_ipv4_compat is_ipv4_mapped is_ipv6 is_used_lock is_uuid is_visible_dd_object isnull join json_array json_array_append json_array_insert
		json_arrayagg json_compact json_contains json_contains_path json_depth json_detailed json_equals json_exists json_extract json_insert json_keys
		json_length json_loose json_merge json_merge_patch json_merge_preserve json_normalize json_object json_objectagg json_overlaps json_pretty json_query
		json_quote json_remove json_replace json_schema_valid json_schema_validation_report json_search json_set json_storage_free json_storage_size json_table
		json_type json_unquote json_valid json_value key lag last_day last_insert_id last_value lastval lateral lcase lead least left length lengthb like limit
		linestring ln load_file localtime localtimestamp locate log log10 log2 lower lpad lpad_oracle ltrim ltrim_oracle make_set makedate maketime
		master_gtid_wait master_pos_wait match max mbrcontains mbrcoveredby mbrcovers mbrdisjoint mbrequal mbrequals mbrintersects mbroverlaps mbrtouches
		mbrwithin md5 median member microsecond mid min minute mod month monthname multilinestring multipoint multipolygon name_const natural_sort_key nchar
		not now nth_value ntile null nullif numeric nvl nvl2 oct octet_length of old_password on or ord order outer over partition password percent_rank
		percentile_cont percentile_disc period_add period_diff pi point polygon position pow power ps_current_thread_id ps_thread_id quarter quote radians rand
		random_bytes rank regexp regexp_instr regexp_like regexp_replace regexp_substr release_all_locks release_lock repeat replace replace_oracle returning
		reverse right rlike roles_graphml round row row_count row_number rpad rpad_oracle rtrim rtrim_oracle schema schemas sec_to_time second select
		session_user set sformat sha sha1 sha2 sign signed sin sleep some soundex space sqrt st_area st_asbinary st_asgeojson st_astext st_aswkb st_aswkt
		st_buffer st_buffer_strategy st_centroid st_collect st_contains st_convexhull st_crosses st_difference st_dimension st_disjoint st_distance
		st_distance_sphere st_endpoint st_envelope st_equals st_exteriorring st_frechetdistance st_geohash st_geomcollfromtext st_geometryfromtext st_geometryn
		st_geometrytype st_geomfromgeojson st_geomfromtext st_geomfromwkb st_hausdorffdistance st_interiorringn st_intersection st_intersects st_isclosed
		st_isempty st_isring st_issimple st_isvalid st_latfromgeohash st_latitude st_length st_linefromtext st_lineinterpolatepoint st_longfromgeohash
		st_longitude st_makeenvelope st_numgeometries st_numinteriorring st_numinteriorrings st_numpoints st_overlaps st_perimeter st_pointatdistance
		st_pointfromgeohash st_pointfromtext st_pointn st_polyfromtext st_polygonfromtext st_relate st_simplify st_srid st_startpoint st_swapxy
		st_symdifference st_touches st_transform st_union st_validate st_within st_x st_y statement_digest statement_digest_text std stddev stddev_pop
		stddev_samp str_to_date straight_join strcmp subdate substr substr_oracle substring substring_index subtime sum sys_guid sysdate system_user table tan
		then time time_format time_to_sec timediff timestamp timestampadd timestampdiff to_base64 to_char to_days to_seconds trim trim_oracle true truncate
		ucase uncompress uncompressed_length unhex union unique unix_timestamp unsigned updatexml upper use user using utc_date utc_time utc_timestamp uuid
		uuid_short uuid_to_bin values var_pop var_samp varbinary varchar variance version week weekday weekofyear weight_string when where while window with
		within wsrep_last_seen_gtid wsrep_last_written_gtid wsrep_sync_wait_upto_gtid xor year yearweek`) {
		all[word] = true
	}
	return all
}

// Foreign implements engine.Catalogue. A function that people have made can have the name of one
// of the server's own, and is called where a space is before the bracket ("Function Name Parsing
// and Resolution", both manuals). One without its database before it is of the one that is open.
// Who may call it sees it.
func (s *session) Foreign(ctx context.Context, names []string) ([]string, error) {
	var list []string
	for _, name := range names {
		list = append(list, literal(name))
	}
	rows, err := s.texts(ctx, "select distinct lower(routine_name) from information_schema.routines where "+
		"routine_schema = database() and routine_type = 'FUNCTION' and lower(routine_name) in ("+strings.Join(list,
		", ")+")")
	if err != nil {
		return nil, err
	}
	var foreign []string
	for _, row := range rows {
		if row[0] != nil {
			foreign = append(foreign, *row[0])
		}
	}
	return foreign, nil
}
