package sqlserver

import (
	"context"
	"strings"

	"movekit/internal/core/dbprint"
)

// Definition is a query for the definitions of one sort of object. Its first column is the name; the others define the object.
// All columns exist since SQL Server 2012, so that an older and a newer server give the same answer. A restored database keeps
// its definitions, except for numbers of the server itself, which no query reads.
type Definition struct{ Sort, Query string }

// The names of objects in the queries.
const (
	ofTable  = "CONCAT(SCHEMA_NAME(o.schema_id), N'.', o.name)"
	ofParent = "CONCAT(OBJECT_SCHEMA_NAME(x.parent_object_id), N'.', OBJECT_NAME(x.parent_object_id))"
	ofType   = "CONCAT(SCHEMA_NAME(y.schema_id), N'.', y.name)"
	column   = "c.column_id, c.max_length, c.precision, c.scale, c.collation_name, c.is_nullable, c.is_ansi_padded, c.is_rowguidcol, c.is_filestream, c.is_sparse, c.is_column_set, c.is_xml_document"
)

// Definitions are the queries, from the catalog views of the Transact-SQL Reference.
var Definitions = []Definition{
	{"schema", "SELECT s.name, USER_NAME(s.principal_id) FROM sys.schemas s WHERE s.schema_id < 16384"},
	{"table", "SELECT " + ofTable + ", o.lock_escalation_desc, o.text_in_row_limit, o.large_value_types_out_of_row, o.is_tracked_by_cdc, o.uses_ansi_nulls FROM sys.tables o WHERE o.is_ms_shipped = 0"},
	{"column", "SELECT CONCAT(" + ofTable + ", N'.', c.name), o.type, " + ofType + ", " + column + ", RTRIM(x.name) FROM sys.columns c JOIN sys.objects o ON o.object_id = c.object_id JOIN sys.types y ON y.user_type_id = c.user_type_id LEFT JOIN sys.xml_schema_collections x ON x.xml_collection_id = c.xml_collection_id AND c.xml_collection_id > 0 WHERE o.is_ms_shipped = 0"},
	{"table type", "SELECT CONCAT(SCHEMA_NAME(o.schema_id), N'.', o.name, N'.', c.name), " + ofType + ", " + column + " FROM sys.table_types o JOIN sys.columns c ON c.object_id = o.type_table_object_id JOIN sys.types y ON y.user_type_id = c.user_type_id"},
	{"type", "SELECT " + ofType + ", TYPE_NAME(y.system_type_id), y.max_length, y.precision, y.scale, y.collation_name, y.is_nullable, y.is_assembly_type, OBJECT_NAME(y.default_object_id), OBJECT_NAME(y.rule_object_id) FROM sys.types y WHERE y.is_user_defined = 1"},
	{"identity", "SELECT CONCAT(OBJECT_SCHEMA_NAME(x.object_id), N'.', OBJECT_NAME(x.object_id), N'.', x.name), CONVERT(nvarchar(60), x.seed_value), CONVERT(nvarchar(60), x.increment_value), CONVERT(nvarchar(60), x.last_value), x.is_not_for_replication FROM sys.identity_columns x WHERE OBJECTPROPERTY(x.object_id, 'IsMSShipped') = 0"},
	{"computed column", "SELECT CONCAT(OBJECT_SCHEMA_NAME(x.object_id), N'.', OBJECT_NAME(x.object_id), N'.', x.name), x.definition, x.is_persisted FROM sys.computed_columns x"},
	{"default", "SELECT CONCAT(" + ofParent + ", N'.', COL_NAME(x.parent_object_id, x.parent_column_id)), x.definition, x.name FROM sys.default_constraints x WHERE x.is_ms_shipped = 0"},
	{"check", "SELECT CONCAT(" + ofParent + ", N'.', x.name), x.definition, x.is_disabled, x.is_not_trusted, x.is_not_for_replication FROM sys.check_constraints x WHERE x.is_ms_shipped = 0"},
	{"index", "SELECT CONCAT(" + ofTable + ", N'.', i.name), i.type_desc, i.is_unique, i.ignore_dup_key, i.is_primary_key, i.is_unique_constraint, i.fill_factor, i.is_padded, i.is_disabled, i.is_hypothetical, i.allow_row_locks, i.allow_page_locks, i.filter_definition, d.name FROM sys.indexes i JOIN sys.objects o ON o.object_id = i.object_id LEFT JOIN sys.data_spaces d ON d.data_space_id = i.data_space_id WHERE o.is_ms_shipped = 0 AND o.type IN ('U', 'V')"},
	{"index column", "SELECT CONCAT(" + ofTable + ", N'.', i.name, N'.', x.index_column_id), COL_NAME(x.object_id, x.column_id), x.key_ordinal, x.partition_ordinal, x.is_descending_key, x.is_included_column FROM sys.index_columns x JOIN sys.indexes i ON i.object_id = x.object_id AND i.index_id = x.index_id JOIN sys.objects o ON o.object_id = x.object_id WHERE o.is_ms_shipped = 0 AND o.type IN ('U', 'V')"},
	{"foreign key", "SELECT CONCAT(" + ofParent + ", N'.', x.name), OBJECT_SCHEMA_NAME(x.referenced_object_id), OBJECT_NAME(x.referenced_object_id), x.delete_referential_action_desc, x.update_referential_action_desc, x.is_disabled, x.is_not_trusted, x.is_not_for_replication FROM sys.foreign_keys x WHERE x.is_ms_shipped = 0"},
	{"foreign key column", "SELECT CONCAT(" + ofParent + ", N'.', OBJECT_NAME(x.constraint_object_id), N'.', x.constraint_column_id), COL_NAME(x.parent_object_id, x.parent_column_id), COL_NAME(x.referenced_object_id, x.referenced_column_id) FROM sys.foreign_key_columns x"},
	{"module", "SELECT CONCAT(ISNULL(SCHEMA_NAME(o.schema_id), N''), N'.', ISNULL(o.name, t.name)), ISNULL(o.type, t.type), m.definition, m.uses_ansi_nulls, m.uses_quoted_identifier, m.is_schema_bound, m.execute_as_principal_id FROM sys.sql_modules m LEFT JOIN sys.objects o ON o.object_id = m.object_id LEFT JOIN sys.triggers t ON t.object_id = m.object_id WHERE ISNULL(o.is_ms_shipped, 0) = 0"},
	{"trigger", "SELECT CONCAT(OBJECT_SCHEMA_NAME(x.parent_id), N'.', OBJECT_NAME(x.parent_id), N'.', x.name), x.parent_class_desc, x.is_disabled, x.is_instead_of_trigger, x.is_not_for_replication FROM sys.triggers x WHERE x.is_ms_shipped = 0"},
	{"parameter", "SELECT CONCAT(" + ofTable + ", N'.', x.parameter_id), x.name, " + ofType + ", x.max_length, x.precision, x.scale, x.is_output, x.is_readonly FROM sys.parameters x JOIN sys.objects o ON o.object_id = x.object_id JOIN sys.types y ON y.user_type_id = x.user_type_id WHERE o.is_ms_shipped = 0"},
	{"synonym", "SELECT " + ofTable + ", o.base_object_name FROM sys.synonyms o"},
	{"sequence", "SELECT " + ofTable + ", CONVERT(nvarchar(60), o.start_value), CONVERT(nvarchar(60), o.increment), CONVERT(nvarchar(60), o.minimum_value), CONVERT(nvarchar(60), o.maximum_value), o.is_cycling, o.is_cached, o.cache_size, CONVERT(nvarchar(60), o.current_value) FROM sys.sequences o"},
	{"XML schema", "SELECT CONCAT(SCHEMA_NAME(x.schema_id), N'.', x.name), n.name FROM sys.xml_schema_collections x LEFT JOIN sys.xml_schema_namespaces n ON n.xml_collection_id = x.xml_collection_id WHERE x.schema_id <> 4"},
	{"assembly", "SELECT x.name, x.clr_name, x.permission_set_desc, x.is_visible, (SELECT SUM(DATALENGTH(f.content)) FROM sys.assembly_files f WHERE f.assembly_id = x.assembly_id) FROM sys.assemblies x WHERE x.is_user_defined = 1"},
	{"partition function", "SELECT CONCAT(x.name, N'.', r.boundary_id), x.type_desc, x.fanout, x.boundary_value_on_right, CONVERT(nvarchar(200), r.value) FROM sys.partition_functions x LEFT JOIN sys.partition_range_values r ON r.function_id = x.function_id"},
	{"partition scheme", "SELECT x.name, f.name FROM sys.partition_schemes x JOIN sys.partition_functions f ON f.function_id = x.function_id"},
	{"file group", "SELECT x.name, x.type_desc, x.is_default, x.is_read_only FROM sys.filegroups x"},
	{"full-text index", "SELECT CONCAT(OBJECT_SCHEMA_NAME(x.object_id), N'.', OBJECT_NAME(x.object_id)), c.name, x.is_enabled, x.change_tracking_state_desc FROM sys.fulltext_indexes x JOIN sys.fulltext_catalogs c ON c.fulltext_catalog_id = x.fulltext_catalog_id"},
	{"extended property", "SELECT CONCAT(x.class_desc, N'.', OBJECT_SCHEMA_NAME(x.major_id), N'.', OBJECT_NAME(x.major_id), N'.', CASE WHEN x.class = 1 THEN ISNULL(COL_NAME(x.major_id, x.minor_id), N'') ELSE CONCAT(x.major_id, N'.', x.minor_id) END, N'.', x.name), CONVERT(nvarchar(4000), x.value) FROM sys.extended_properties x"},
	{"user", "SELECT x.name, x.type_desc, x.default_schema_name, USER_NAME(x.owning_principal_id) FROM sys.database_principals x WHERE x.is_fixed_role = 0"},
	{"role member", "SELECT CONCAT(USER_NAME(x.role_principal_id), N'.', USER_NAME(x.member_principal_id)), N'' FROM sys.database_role_members x"},
	{"permission", "SELECT CONCAT(x.class_desc, N'.', CASE WHEN x.class = 1 THEN CONCAT(OBJECT_SCHEMA_NAME(x.major_id), N'.', OBJECT_NAME(x.major_id), N'.', COL_NAME(x.major_id, x.minor_id)) WHEN x.class = 3 THEN SCHEMA_NAME(x.major_id) ELSE CONCAT(x.major_id, N'') END, N'.', USER_NAME(x.grantee_principal_id), N'.', x.permission_name), x.state_desc, USER_NAME(x.grantor_principal_id) FROM sys.database_permissions x WHERE x.major_id >= 0"},
}

// Options are the settings of a database that a restore keeps, as name and value.
const Options = "SELECT v.name, v.value FROM sys.databases d CROSS APPLY (VALUES (N'compatibility level', CONVERT(nvarchar(200), d.compatibility_level)), (N'collation', CONVERT(nvarchar(200), d.collation_name)), (N'recovery model', CONVERT(nvarchar(200), d.recovery_model_desc)), (N'snapshot isolation', CONVERT(nvarchar(200), d.snapshot_isolation_state)), (N'read committed snapshot', CONVERT(nvarchar(200), d.is_read_committed_snapshot_on)), (N'containment', CONVERT(nvarchar(200), d.containment_desc)), (N'auto close', CONVERT(nvarchar(200), d.is_auto_close_on)), (N'auto shrink', CONVERT(nvarchar(200), d.is_auto_shrink_on)), (N'page verify', CONVERT(nvarchar(200), d.page_verify_option_desc)), (N'quoted identifiers', CONVERT(nvarchar(200), d.is_quoted_identifier_on)), (N'ANSI nulls', CONVERT(nvarchar(200), d.is_ansi_nulls_on)), (N'recursive triggers', CONVERT(nvarchar(200), d.is_recursive_triggers_on)), (N'read only', CONVERT(nvarchar(200), d.is_read_only))) v (name, value) WHERE d.database_id = DB_ID()"

// schema reads the definitions and settings of a database.
func (o *session) schema(ctx context.Context, database string, d *Sealed) error {
	a, err := o.ask(ctx)
	if err != nil {
		return err
	}
	d.Version, d.Engine, d.Settings = a.version, "SQL Server "+a.version, map[string]string{}
	for _, q := range Definitions {
		rows, err := o.table(ctx, database, q.Query)
		if err != nil {
			return err
		}
		for _, r := range rows {
			d.Schema = append(d.Schema, dbprint.NewObject(q.Sort, r[0], strings.Join(r[1:], "\x00"), ""))
		}
	}
	options, err := o.table(ctx, database, Options)
	for _, r := range options {
		d.Settings[r[0]] = r[1]
	}
	return err
}
