/*M!999999\- enable the sandbox mode */ 

/*!40101 SET @OLD_CHARACTER_SET_CLIENT=@@CHARACTER_SET_CLIENT */;
/*!40101 SET @OLD_CHARACTER_SET_RESULTS=@@CHARACTER_SET_RESULTS */;
/*!40101 SET @OLD_COLLATION_CONNECTION=@@COLLATION_CONNECTION */;
/*!40101 SET NAMES utf8mb4 */;
/*!40103 SET @OLD_TIME_ZONE=@@TIME_ZONE */;
/*!40103 SET TIME_ZONE='+00:00' */;
/*!40014 SET @OLD_UNIQUE_CHECKS=@@UNIQUE_CHECKS, UNIQUE_CHECKS=0 */;
/*!40014 SET @OLD_FOREIGN_KEY_CHECKS=@@FOREIGN_KEY_CHECKS, FOREIGN_KEY_CHECKS=0 */;
/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */;
/*!40111 SET @OLD_SQL_NOTES=@@SQL_NOTES, SQL_NOTES=0 */;
DROP TABLE IF EXISTS `jugatum_act`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_act` (
  `run` bigint(20) NOT NULL,
  `step` bigint(20) NOT NULL,
  `n` bigint(20) NOT NULL,
  `by_columns` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `verb` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `table_schema` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `table_name` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `key_columns` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `set_columns` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `kept_table` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `to_change` bigint(20) NOT NULL,
  PRIMARY KEY (`run`,`step`,`n`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

DROP TABLE IF EXISTS `jugatum_batch`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_batch` (
  `run` bigint(20) NOT NULL,
  `step` bigint(20) NOT NULL,
  `lane` bigint(20) NOT NULL,
  `n` bigint(20) NOT NULL,
  `began_at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  `key_to` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `kept_to` bigint(20) NOT NULL,
  `scanned` bigint(20) NOT NULL,
  `matched` bigint(20) NOT NULL,
  `changed` bigint(20) NOT NULL,
  `skipped` bigint(20) NOT NULL,
  `hold_ms` double DEFAULT NULL,
  `lock_wait_ms` double NOT NULL,
  `log_bytes` bigint(20) DEFAULT NULL,
  `log_records` bigint(20) DEFAULT NULL,
  `log_images` bigint(20) DEFAULT NULL,
  `log_scope` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL,
  `locks` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `retries` bigint(20) NOT NULL,
  `set_aside` bigint(20) NOT NULL,
  `waiters` bigint(20) NOT NULL,
  `pause_ms` double NOT NULL,
  `why` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `acts` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (`run`,`step`,`lane`,`n`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_batch` VALUES (1,1,1,1,'2026-11-30 18:59:28.494389+00:00','[\"15\"]',0,15,0,0,0,3.466,0,3460,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":2,\"rows\":1,\"rows modified\":1}',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (1,1,1,2,'2026-11-30 18:59:28.504444+00:00','[\"30\"]',10,10,10,10,0,19.28,0,3408,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (1,1,1,3,'2026-11-30 18:59:28.522103+00:00','[\"45\"]',25,15,15,15,0,4.619,0,3617,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (1,1,1,4,'2026-11-30 18:59:28.530578+00:00','[\"60\"]',40,15,15,15,0,4.847,0,3738,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (2,1,1,1,'2026-11-30 18:59:28.891796+00:00','[\"15\"]',15,15,15,15,0,12.827,0,5132,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":5,\"rows\":16,\"rows modified\":32}',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (2,1,1,2,'2026-11-30 18:59:28.907088+00:00','[\"30\"]',20,5,5,5,0,24.921,0,3133,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (2,1,1,3,'2026-11-30 18:59:28.930682+00:00','[\"45\"]',20,0,0,0,0,12.993,0,1925,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (2,1,1,4,'2026-11-30 18:59:28.948939+00:00','[\"60\"]',20,0,0,0,0,3.161,0,1925,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (3,1,1,1,'2026-11-30 18:59:29.336749+00:00','[15]',0,15,15,15,0,11.318,0,4936,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":3,\"rows\":1,\"rows modified\":16}',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (3,1,1,2,'2026-11-30 18:59:29.349770+00:00','[20]',0,5,5,5,0,6.07,0,2440,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,1,1,'2026-11-30 18:59:29.617985+00:00','[\"8\"]',8,8,8,8,0,23.202,0,2425,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":5,\"rows\":9,\"rows modified\":18}',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,1,2,'2026-11-30 18:59:29.642138+00:00','[\"9\"]',9,1,1,1,0,36.937,0,2891,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,2,1,'2026-11-30 18:59:29.613140+00:00','[\"17\"]',1099511627783,8,7,7,0,25.91,0,2343,NULL,NULL,'ours','null',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,3,1,'2026-11-30 18:59:29.633441+00:00','[\"21\"]',2199023255555,4,3,3,0,21.053,0,2738,NULL,NULL,'ours','null',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,3,2,'2026-11-30 18:59:29.698587+00:00','[\"23\"]',2199023255557,2,2,2,0,39.622,0,2863,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,3,3,'2026-11-30 18:59:29.760724+00:00','[\"24\"]',2199023255558,1,1,1,0,21.056,0,2824,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,4,1,'2026-11-30 18:59:29.643711+00:00','[\"34\"]',3298534883335,8,7,7,0,32.608,0,2349,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,5,1,'2026-11-30 18:59:29.681097+00:00','[\"42\"]',4398046511111,8,7,7,0,29.588,0,2359,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,5,2,'2026-11-30 18:59:29.717213+00:00','[\"43\"]',4398046511112,1,1,1,0,33.116,0,2968,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":5,\"rows\":2,\"rows modified\":11}',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,6,1,'2026-11-30 18:59:29.682997+00:00','[\"51\"]',5497558138887,8,7,7,0,40.763,0,2359,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,7,1,'2026-11-30 18:59:29.730480+00:00','[\"59\"]',6597069766664,8,8,8,0,26.731,0,2401,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (4,1,7,2,'2026-11-30 18:59:29.759844+00:00','[\"60\"]',6597069766664,1,0,0,0,10.138,0,1936,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (5,1,1,1,'2026-11-30 18:59:30.091599+00:00','[\"3\"]',3,3,3,3,0,26.917,0,5076,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":5,\"rows\":5,\"rows modified\":5}',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (5,1,1,2,'2026-11-30 18:59:30.151375+00:00','[\"4\"]',3,1,1,0,0,2.777,0,NULL,NULL,NULL,'','null',0,1,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (5,1,1,3,'2026-11-30 18:59:30.153545+00:00','[\"10\"]',6,3,3,3,0,11.579,0,2921,NULL,NULL,'ours','null',0,0,-1,0,'','');
INSERT INTO `jugatum_batch` VALUES (6,1,1,1,'2026-11-30 18:59:30.301708+00:00','[\"10\"]',3,3,3,3,0,14.039,0,4026,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":5,\"rows\":4,\"rows modified\":8}',0,0,0,0,'','');
INSERT INTO `jugatum_batch` VALUES (7,1,1,1,'2026-11-30 18:59:30.582095+00:00','[3]',0,3,3,1,2,10.105,0,5542,NULL,NULL,'ours','{\"lock memory bytes\":1128,\"lock structs\":5,\"rows\":2,\"rows modified\":4}',0,0,0,0,'','');
DROP TABLE IF EXISTS `jugatum_kept_1_1`;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_1_1`*/;
SET @saved_cs_client     = @@character_set_client;
SET character_set_client = utf8mb4;
/*!50001 CREATE VIEW `jugatum_kept_1_1` AS SELECT
 NULL AS `seq`,
 NULL AS `key_id`,
 NULL AS `old_n`,
 NULL AS `new_n`,
 NULL AS `packed_to` */;
SET character_set_client = @saved_cs_client;
DROP TABLE IF EXISTS `jugatum_kept_2_1`;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_2_1`*/;
SET @saved_cs_client     = @@character_set_client;
SET character_set_client = utf8mb4;
/*!50001 CREATE VIEW `jugatum_kept_2_1` AS SELECT
 NULL AS `seq`,
 NULL AS `key_id`,
 NULL AS `old_id`,
 NULL AS `old_n`,
 NULL AS `old_note`,
 NULL AS `packed_to` */;
SET character_set_client = @saved_cs_client;
DROP TABLE IF EXISTS `jugatum_kept_4_1`;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_4_1`*/;
SET @saved_cs_client     = @@character_set_client;
SET character_set_client = utf8mb4;
/*!50001 CREATE VIEW `jugatum_kept_4_1` AS SELECT
 NULL AS `seq`,
 NULL AS `key_id`,
 NULL AS `old_n`,
 NULL AS `new_n`,
 NULL AS `packed_to` */;
SET character_set_client = @saved_cs_client;
DROP TABLE IF EXISTS `jugatum_kept_5_1`;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_5_1`*/;
SET @saved_cs_client     = @@character_set_client;
SET character_set_client = utf8mb4;
/*!50001 CREATE VIEW `jugatum_kept_5_1` AS SELECT
 NULL AS `seq`,
 NULL AS `key_id`,
 NULL AS `old_n`,
 NULL AS `new_n`,
 NULL AS `packed_to` */;
SET character_set_client = @saved_cs_client;
DROP TABLE IF EXISTS `jugatum_kept_6_1`;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_6_1`*/;
SET @saved_cs_client     = @@character_set_client;
SET character_set_client = utf8mb4;
/*!50001 CREATE VIEW `jugatum_kept_6_1` AS SELECT
 NULL AS `seq`,
 NULL AS `key_id`,
 NULL AS `old_n`,
 NULL AS `new_n`,
 NULL AS `packed_to` */;
SET character_set_client = @saved_cs_client;
DROP TABLE IF EXISTS `jugatum_lane`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_lane` (
  `run` bigint(20) NOT NULL,
  `step` bigint(20) NOT NULL,
  `n` bigint(20) NOT NULL,
  `checkpoint` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `walk_end` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `batches` bigint(20) NOT NULL,
  `kept` bigint(20) NOT NULL,
  `done` bigint(20) NOT NULL,
  PRIMARY KEY (`run`,`step`,`n`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_lane` VALUES (1,1,1,'[\"60\"]','[\"60\"]',4,40,1);
INSERT INTO `jugatum_lane` VALUES (2,1,1,'[\"60\"]','[\"60\"]',4,20,1);
INSERT INTO `jugatum_lane` VALUES (3,1,1,'[20]','[20]',2,0,1);
INSERT INTO `jugatum_lane` VALUES (4,1,1,'[\"9\"]','[\"9\"]',2,9,0);
INSERT INTO `jugatum_lane` VALUES (4,1,2,'[\"17\"]','[\"17\"]',1,1099511627783,0);
INSERT INTO `jugatum_lane` VALUES (4,1,3,'[\"24\"]','[\"26\"]',3,2199023255558,0);
INSERT INTO `jugatum_lane` VALUES (4,1,4,'[\"34\"]','[\"34\"]',1,3298534883335,0);
INSERT INTO `jugatum_lane` VALUES (4,1,5,'[\"43\"]','[\"43\"]',2,4398046511112,0);
INSERT INTO `jugatum_lane` VALUES (4,1,6,'[\"51\"]','[\"51\"]',1,5497558138887,0);
INSERT INTO `jugatum_lane` VALUES (4,1,7,'[\"60\"]','[\"60\"]',2,6597069766664,0);
INSERT INTO `jugatum_lane` VALUES (5,1,1,'[\"10\"]','[\"10\"]',3,6,1);
INSERT INTO `jugatum_lane` VALUES (6,1,1,'[\"10\"]','[\"10\"]',1,3,1);
INSERT INTO `jugatum_lane` VALUES (7,1,1,'[3]','[3]',1,0,1);
DROP TABLE IF EXISTS `jugatum_ledger`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_ledger` (
  `version` bigint(20) NOT NULL,
  `made_at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_ledger` VALUES (4,'2026-11-30 18:59:28.469984+00:00');
DROP TABLE IF EXISTS `jugatum_outcome`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_outcome` (
  `run` bigint(20) NOT NULL,
  `step` bigint(20) NOT NULL,
  `kind` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  `n` bigint(20) NOT NULL,
  `row_key` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `detail` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  `settled_at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin DEFAULT NULL,
  PRIMARY KEY (`run`,`step`,`kind`,`n`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_outcome` VALUES (5,1,'set aside',1,'[\"4\"]','{\"new\":{\"n\":\"5\"},\"error\":\"Error 4025 (23000): CONSTRAINT `five` failed for `saltmere_v4`.`w`\"}','2026-11-30 18:59:30.149850+00:00',NULL);
INSERT INTO `jugatum_outcome` VALUES (7,1,'skipped',2,'9','{\"expected\":{\"n\":\"109\"},\"found\":{\"n\":\"7777\"}}','2026-11-30 18:59:30.585897+00:00',NULL);
INSERT INTO `jugatum_outcome` VALUES (7,1,'skipped',3,'10','{\"expected\":{\"n\":\"110\"}}','2026-11-30 18:59:30.585897+00:00',NULL);
DROP TABLE IF EXISTS `jugatum_packed_1_1`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_packed_1_1` (
  `last` bigint(20) NOT NULL,
  `first` bigint(20) NOT NULL,
  `v` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL,
  `key_id` int(11) DEFAULT NULL,
  `old_n` int(11) DEFAULT NULL,
  `new_n` int(11) DEFAULT NULL,
  PRIMARY KEY (`last`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci ROW_FORMAT=DYNAMIC;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_packed_1_1` VALUES (10,0,'[[21,21,43],[22,22,45],[23,23,47],[24,24,49],[25,25,51],[26,26,53],[27,27,55],[28,28,57],[29,29,59],[30,30,61]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_1_1` VALUES (25,10,'[[31,31,63],[32,32,65],[33,33,67],[34,34,69],[35,35,71],[36,36,73],[37,37,75],[38,38,77],[39,39,79],[40,40,81],[41,41,83],[42,42,85],[43,43,87],[44,44,89],[45,45,91]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_1_1` VALUES (40,25,'[[46,46,93],[47,47,95],[48,48,97],[49,49,99],[50,50,101],[51,51,103],[52,52,105],[53,53,107],[54,54,109],[55,55,111],[56,56,113],[57,57,115],[58,58,117],[59,59,119],[60,60,121]]',NULL,NULL,NULL);
DROP TABLE IF EXISTS `jugatum_packed_2_1`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_packed_2_1` (
  `last` bigint(20) NOT NULL,
  `first` bigint(20) NOT NULL,
  `v` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL,
  `key_id` int(11) DEFAULT NULL,
  `old_id` int(11) DEFAULT NULL,
  `old_n` int(11) DEFAULT NULL,
  `old_note` varchar(40) DEFAULT NULL,
  PRIMARY KEY (`last`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci ROW_FORMAT=DYNAMIC;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_packed_2_1` VALUES (15,0,'[[1,1,1,\"berth 1\"],[2,2,2,\"berth 2\"],[3,3,3,\"berth 3\"],[4,4,4,\"berth 4\"],[5,5,5,\"berth 5\"],[6,6,6,\"berth 6\"],[7,7,7,\"berth 7\"],[8,8,8,\"berth 8\"],[9,9,9,\"berth 9\"],[10,10,10,\"berth 10\"],[11,11,11,\"berth 11\"],[12,12,12,\"berth 12\"],[13,13,13,\"berth 13\"],[14,14,14,\"berth 14\"],[15,15,15,\"berth 15\"]]',NULL,NULL,NULL,NULL);
INSERT INTO `jugatum_packed_2_1` VALUES (20,15,'[[16,16,16,\"berth 16\"],[17,17,17,\"berth 17\"],[18,18,18,\"berth 18\"],[19,19,19,\"berth 19\"],[20,20,20,\"berth 20\"]]',NULL,NULL,NULL,NULL);
DROP TABLE IF EXISTS `jugatum_packed_4_1`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_packed_4_1` (
  `last` bigint(20) NOT NULL,
  `first` bigint(20) NOT NULL,
  `v` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL,
  `key_id` int(11) DEFAULT NULL,
  `old_n` int(11) DEFAULT NULL,
  `new_n` int(11) DEFAULT NULL,
  PRIMARY KEY (`last`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci ROW_FORMAT=DYNAMIC;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_packed_4_1` VALUES (8,0,'[[1,1,4],[2,2,7],[3,3,10],[4,4,13],[5,5,16],[6,6,19],[7,7,22],[8,8,25]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (9,8,'[[9,9,28]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (1099511627783,1099511627776,'[[11,11,34],[12,12,37],[13,13,40],[14,14,43],[15,15,46],[16,16,49],[17,17,52]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (2199023255555,2199023255552,'[[18,18,55],[19,19,58],[21,21,64]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (2199023255557,2199023255555,'[[22,22,67],[23,23,70]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (2199023255558,2199023255557,'[[24,24,73]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (3298534883335,3298534883328,'[[27,27,82],[28,28,85],[29,29,88],[31,31,94],[32,32,97],[33,33,100],[34,34,103]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (4398046511111,4398046511104,'[[35,35,106],[36,36,109],[37,37,112],[38,38,115],[39,39,118],[41,41,124],[42,42,127]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (4398046511112,4398046511111,'[[43,43,130]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (5497558138887,5497558138880,'[[44,44,133],[45,45,136],[46,46,139],[47,47,142],[48,48,145],[49,49,148],[51,51,154]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_4_1` VALUES (6597069766664,6597069766656,'[[52,52,157],[53,53,160],[54,54,163],[55,55,166],[56,56,169],[57,57,172],[58,58,175],[59,59,178]]',NULL,NULL,NULL);
DROP TABLE IF EXISTS `jugatum_packed_5_1`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_packed_5_1` (
  `last` bigint(20) NOT NULL,
  `first` bigint(20) NOT NULL,
  `v` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL,
  `key_id` int(11) DEFAULT NULL,
  `old_n` int(11) DEFAULT NULL,
  `new_n` int(11) DEFAULT NULL,
  PRIMARY KEY (`last`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci ROW_FORMAT=DYNAMIC;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_packed_5_1` VALUES (3,0,'[[1,1,2],[2,2,3],[3,3,4]]',NULL,NULL,NULL);
INSERT INTO `jugatum_packed_5_1` VALUES (6,3,'[[8,8,9],[9,9,10],[10,10,11]]',NULL,NULL,NULL);
DROP TABLE IF EXISTS `jugatum_packed_6_1`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_packed_6_1` (
  `last` bigint(20) NOT NULL,
  `first` bigint(20) NOT NULL,
  `v` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL,
  `key_id` int(11) DEFAULT NULL,
  `old_n` int(11) DEFAULT NULL,
  `new_n` int(11) DEFAULT NULL,
  PRIMARY KEY (`last`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci ROW_FORMAT=DYNAMIC;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_packed_6_1` VALUES (3,0,'[[8,9,108],[9,10,109],[10,11,110]]',NULL,NULL,NULL);
DROP TABLE IF EXISTS `jugatum_run`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_run` (
  `id` bigint(20) NOT NULL,
  `title` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `reason` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `undo_of` bigint(20) DEFAULT NULL,
  `source_name` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `source_text` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `source_sql` bigint(20) NOT NULL,
  `params` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `digest` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `options` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `status` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `error` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `version` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `os_user` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `db_user` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `host` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `pid` bigint(20) NOT NULL,
  `holder` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `heartbeat` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  `started_at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  `ended_at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin DEFAULT NULL,
  `samples` bigint(20) NOT NULL,
  `looking_ms` double NOT NULL,
  `server` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (`id`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_run` VALUES (1,'UPDATE t SET n = n * 2 + 1 WHERE id > 20','',NULL,'--sql','UPDATE t SET n = n * 2 + 1 WHERE id > 20',1,'{\"time of the run\":{\"type\":\"timestamp\",\"text\":\"2026-11-30 18:59:28.390240+00:00\"}}','2:cec9bf3ca41f29c5290b6f185e6fdee0dc9551aaaf8cee60ca57a512926d330c','{\"hold\":200000000,\"batch\":15,\"keep\":true,\"limits\":{},\"consent\":{\"rows\":40,\"hazards\":[{\"step\":\"sql\",\"code\":\"not-cleared\",\"level\":\"warning\",\"text\":\"n is computed from itself and the filter still matches afterwards: a second run would change the rows again\"}]},\"seal\":\"c14aa4ed3b3ff899:2caca4bebf18844a944093ffe3bc8bd5e75ae314b4a5e1c6c932edfb6c9b580b\",\"sealed_for\":\"saltmere_v4\",\"consent_seal\":\"c14aa4ed3b3ff899:a48ca5f5b9462077caa2b4a791ee9a88b7d2b902ba33a559fdce8c0dfd9b0ded\"}','done','','0.2.0-dev','root','root@127.0.0.1','vm',7430,'vm/7430/4793033','2026-11-30 18:59:28.519182+00:00','2026-11-30 18:59:28.473140+00:00','2026-11-30 18:59:28.597896+00:00',1,0.003,'{\"history_list\":11,\"redo_bytes\":13163}');
INSERT INTO `jugatum_run` VALUES (2,'DELETE FROM t WHERE id <= 20','',NULL,'--sql','DELETE FROM t WHERE id <= 20',1,'{\"time of the run\":{\"type\":\"timestamp\",\"text\":\"2026-11-30 18:59:28.710342+00:00\"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{\"hold\":200000000,\"batch\":15,\"keep\":true,\"limits\":{},\"consent\":{\"rows\":20,\"hazards\":[{\"step\":\"sql\",\"code\":\"kept-deleted\",\"level\":\"note\",\"text\":\"the rows live on in the kept values that undo needs, also what was to be forgotten; --keep none keeps nothing\"}]},\"seal\":\"c14aa4ed3b3ff899:96f538674b4087bc1590b45604005db223f725d5c4469d4e51b286baff1ddc66\",\"sealed_for\":\"saltmere_v4\",\"consent_seal\":\"c14aa4ed3b3ff899:0da88284a01a03400a97758ce9a4cd2c9030f940ad5257eb1e92683ab0c24077\"}','done','','0.2.0-dev','root','root@127.0.0.1','vm',7476,'vm/7476/4793077','2026-11-30 18:59:28.925187+00:00','2026-11-30 18:59:28.831924+00:00','2026-11-30 18:59:28.989518+00:00',1,0.003,'{\"history_list\":11,\"redo_bytes\":11556}');
INSERT INTO `jugatum_run` VALUES (3,'DELETE FROM t WHERE id <= 20','',2,'--sql','DELETE FROM t WHERE id <= 20',1,'{\"time of the run\":{\"type\":\"timestamp\",\"text\":\"2026-11-30 18:59:28.710342+00:00\"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{\"hold\":200000000,\"batch\":15,\"keep\":true,\"limits\":{},\"backwards\":true,\"seal\":\"c14aa4ed3b3ff899:55aeeebceb0ed681cd2379ea391669c60f49ed501ca17856328549931f937a94\",\"sealed_for\":\"saltmere_v4\"}','done','','0.2.0-dev','root','root@127.0.0.1','vm',7501,'vm/7501/4793117','2026-11-30 18:59:29.347478+00:00','2026-11-30 18:59:29.278257+00:00','2026-11-30 18:59:29.401126+00:00',1,0.006,'{\"history_list\":6,\"redo_bytes\":5391}');
INSERT INTO `jugatum_run` VALUES (4,'UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0','',NULL,'--sql','UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0',1,'{\"time of the run\":{\"type\":\"timestamp\",\"text\":\"2026-11-30 18:59:29.503654+00:00\"}}','2:d7518f8cb2b95ae0791c9cbefad08dd85ce8cf883df8df4948f00388f93cddac','{\"hold\":200000000,\"batch\":8,\"keep\":true,\"workers\":3,\"limits\":{},\"consent\":{\"rows\":54,\"hazards\":[{\"step\":\"sql\",\"code\":\"not-cleared\",\"level\":\"warning\",\"text\":\"n is computed from itself and the filter still matches afterwards: a second run would change the rows again\"},{\"step\":\"sql\",\"code\":\"trigger\",\"level\":\"note\",\"text\":\"trigger fault (before update) fires for 54 rows; what it changes elsewhere is not kept\"}]},\"seal\":\"c14aa4ed3b3ff899:e02b7de37b93a8c68893a57db5ca4639b1ac3d7bfb23e19ee685a3add6b6519a\",\"sealed_for\":\"saltmere_v4\",\"consent_seal\":\"c14aa4ed3b3ff899:c9a35e08709a054276e044cc5d81d9635852f17d4e8a7cfacb84d9d6011a3ff7\"}','failed','step \"sql\": u: row 25: Error 1644 (45000): a fault; fix it, or let such rows be set aside (--set-aside)','0.2.0-dev','root','root@127.0.0.1','vm',7527,'vm/7527/4793155','2026-11-30 18:59:29.709586+00:00','2026-11-30 18:59:29.569482+00:00','2026-11-30 18:59:29.805163+00:00',1,0.005,'{\"history_list\":23,\"redo_bytes\":25655}');
INSERT INTO `jugatum_run` VALUES (5,'UPDATE w SET n = n + 1 WHERE id > 0','',NULL,'--sql','UPDATE w SET n = n + 1 WHERE id > 0',1,'{\"time of the run\":{\"type\":\"timestamp\",\"text\":\"2026-11-30 18:59:29.927723+00:00\"}}','2:aace9aac3d3bab6ee586c0703f6c8d2cec635785ad4b4600e5e679c6de61bf25','{\"hold\":200000000,\"keep\":true,\"set_aside\":3,\"limits\":{},\"consent\":{\"rows\":7,\"hazards\":[{\"step\":\"sql\",\"code\":\"not-cleared\",\"level\":\"warning\",\"text\":\"n is computed from itself and the filter still matches afterwards: a second run would change the rows again\"}]},\"seal\":\"c14aa4ed3b3ff899:5ef79e60dc7e1e80a00b0b2188b3598cc0aa8447d33353517a01d7b18bcb82b7\",\"sealed_for\":\"saltmere_v4\",\"consent_seal\":\"c14aa4ed3b3ff899:0fe59fe250d64af64159d1a5dad1a43f0bc85867b3fdd57068d9a71a089d4dd3\"}','done','','0.2.0-dev','root','root@127.0.0.1','vm',7548,'vm/7548/4793196','2026-11-30 18:59:30.121455+00:00','2026-11-30 18:59:29.977781+00:00','2026-11-30 18:59:30.180837+00:00',1,0.005,'{\"history_list\":-40,\"redo_bytes\":16142}');
INSERT INTO `jugatum_run` VALUES (6,'UPDATE w SET n = 100 + id WHERE id > 7','',NULL,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{\"time of the run\":{\"type\":\"timestamp\",\"text\":\"2026-11-30 18:59:30.236356+00:00\"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{\"hold\":200000000,\"keep\":true,\"limits\":{},\"consent\":{\"rows\":3},\"seal\":\"c14aa4ed3b3ff899:989ce511bd37ae44b2e2fc41c9d023809babaf2693ceddd82fcb8052662befdd\",\"sealed_for\":\"saltmere_v4\",\"consent_seal\":\"c14aa4ed3b3ff899:ba5f4472b16132db1db68a0b589f935358e6b272602d494eb0d19c4201037e8e\"}','done','','0.2.0-dev','root','root@127.0.0.1','vm',7579,'vm/7579/4793233','2026-11-30 18:59:30.316614+00:00','2026-11-30 18:59:30.272649+00:00','2026-11-30 18:59:30.340486+00:00',1,0.013,'{\"history_list\":6,\"redo_bytes\":4007}');
INSERT INTO `jugatum_run` VALUES (7,'UPDATE w SET n = 100 + id WHERE id > 7','',6,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{\"time of the run\":{\"type\":\"timestamp\",\"text\":\"2026-11-30 18:59:30.236356+00:00\"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{\"hold\":200000000,\"keep\":true,\"limits\":{},\"backwards\":true,\"seal\":\"c14aa4ed3b3ff899:c4509b802adced0e4a21d584f436249faee83f85bebe5806ba7fc52f115125d1\",\"sealed_for\":\"saltmere_v4\"}','done','','0.2.0-dev','root','root@127.0.0.1','vm',7595,'vm/7595/4793249','2026-11-30 18:59:30.591839+00:00','2026-11-30 18:59:30.552210+00:00','2026-11-30 18:59:30.609176+00:00',1,0.007,'{\"history_list\":5,\"redo_bytes\":3701}');
DROP TABLE IF EXISTS `jugatum_signal`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_signal` (
  `run` bigint(20) NOT NULL,
  `n` bigint(20) NOT NULL,
  `at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  `kind` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `args` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `who` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `host` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `seen_at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin DEFAULT NULL,
  PRIMARY KEY (`run`,`n`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

DROP TABLE IF EXISTS `jugatum_step`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_step` (
  `run` bigint(20) NOT NULL,
  `n` bigint(20) NOT NULL,
  `name` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `verb` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `table_schema` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `table_name` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `key_columns` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `set_columns` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `method` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `kept_table` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `matched` bigint(20) NOT NULL,
  `to_change` bigint(20) NOT NULL,
  `table_rows` bigint(20) NOT NULL,
  `status` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `walk` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (`run`,`n`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `jugatum_step` VALUES (1,1,'sql','update','','t','[\"id\"]','[\"n\"]','sweep','`jugatum_packed_1_1`',40,40,60,'done','{\"lanes\":[{\"n\":1,\"from\":\"\",\"to\":\"[\\\"60\\\"]\"}],\"seal\":\"c14aa4ed3b3ff899:d927db728b038da80b3720344fa08ebd449eff8537f8093b30a7e1e3f32f9579\"}');
INSERT INTO `jugatum_step` VALUES (2,1,'sql','delete','','t','[\"id\"]','null','sweep','`jugatum_packed_2_1`',20,20,60,'done','{\"lanes\":[{\"n\":1,\"from\":\"\",\"to\":\"[\\\"60\\\"]\"}],\"seal\":\"c14aa4ed3b3ff899:50a389d7d421a38970cd971c5f0d4c085f4de90fad2a7ca58f1409e824cd3023\"}');
INSERT INTO `jugatum_step` VALUES (3,1,'sql','delete','','t','[\"id\"]','null','undo','`jugatum_packed_2_1`',-1,20,20,'done','{\"lanes\":[{\"n\":1,\"from\":\"\",\"to\":\"[20]\"}],\"seal\":\"c14aa4ed3b3ff899:d40ea261330a733c2760f378119ab7327c0c0501de6c64634d0c3f92e3d480ff\"}');
INSERT INTO `jugatum_step` VALUES (4,1,'sql','update','','u','[\"id\"]','[\"n\"]','sweep','`jugatum_packed_4_1`',54,54,60,'running','{\"lanes\":[{\"n\":1,\"from\":\"\",\"to\":\"[\\\"9\\\"]\"},{\"n\":2,\"from\":\"[\\\"9\\\"]\",\"to\":\"[\\\"17\\\"]\"},{\"n\":3,\"from\":\"[\\\"17\\\"]\",\"to\":\"[\\\"26\\\"]\"},{\"n\":4,\"from\":\"[\\\"26\\\"]\",\"to\":\"[\\\"34\\\"]\"},{\"n\":5,\"from\":\"[\\\"34\\\"]\",\"to\":\"[\\\"43\\\"]\"},{\"n\":6,\"from\":\"[\\\"43\\\"]\",\"to\":\"[\\\"51\\\"]\"},{\"n\":7,\"from\":\"[\\\"51\\\"]\",\"to\":\"[\\\"60\\\"]\"}],\"seal\":\"c14aa4ed3b3ff899:ae16188b20eff9db9112742ce166f3fb8dea5e477011b9845121a88d4e42e09b\"}');
INSERT INTO `jugatum_step` VALUES (5,1,'sql','update','','w','[\"id\"]','[\"n\"]','sweep','`jugatum_packed_5_1`',7,7,7,'done','{\"lanes\":[{\"n\":1,\"from\":\"\",\"to\":\"[\\\"10\\\"]\"}],\"seal\":\"c14aa4ed3b3ff899:0705f1af10eb8642eb9183d566a94b01be02d3223cd8c146087e1654670c43ad\"}');
INSERT INTO `jugatum_step` VALUES (6,1,'sql','update','','w','[\"id\"]','[\"n\"]','sweep','`jugatum_packed_6_1`',3,3,7,'done','{\"lanes\":[{\"n\":1,\"from\":\"\",\"to\":\"[\\\"10\\\"]\"}],\"seal\":\"c14aa4ed3b3ff899:dd0b8f1d3992d65ac92055987433120aee7970b3a960cb53501d0b7017453ad2\"}');
INSERT INTO `jugatum_step` VALUES (7,1,'sql','update','','w','[\"id\"]','[\"n\"]','undo','`jugatum_packed_6_1`',-1,3,3,'done','{\"lanes\":[{\"n\":1,\"from\":\"\",\"to\":\"[3]\"}],\"seal\":\"c14aa4ed3b3ff899:0b9446988f1c3e6f672710daf770c1bfe2bfb121f48ceaff64f39fef98ac5e9a\"}');
DROP TABLE IF EXISTS `jugatum_waited`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `jugatum_waited` (
  `run` bigint(20) NOT NULL,
  `n` bigint(20) NOT NULL,
  `session` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `step` bigint(20) NOT NULL,
  `began_at` varchar(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  `wait_ms` double NOT NULL,
  `waiting_for` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  `statement` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (`run`,`n`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

DROP TABLE IF EXISTS `t`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `t` (
  `id` int(11) NOT NULL,
  `n` int(11) DEFAULT NULL,
  `note` varchar(40) DEFAULT NULL,
  PRIMARY KEY (`id`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `t` VALUES (1,1,'berth 1');
INSERT INTO `t` VALUES (2,2,'berth 2');
INSERT INTO `t` VALUES (3,3,'berth 3');
INSERT INTO `t` VALUES (4,4,'berth 4');
INSERT INTO `t` VALUES (5,5,'berth 5');
INSERT INTO `t` VALUES (6,6,'berth 6');
INSERT INTO `t` VALUES (7,7,'berth 7');
INSERT INTO `t` VALUES (8,8,'berth 8');
INSERT INTO `t` VALUES (9,9,'berth 9');
INSERT INTO `t` VALUES (10,10,'berth 10');
INSERT INTO `t` VALUES (11,11,'berth 11');
INSERT INTO `t` VALUES (12,12,'berth 12');
INSERT INTO `t` VALUES (13,13,'berth 13');
INSERT INTO `t` VALUES (14,14,'berth 14');
INSERT INTO `t` VALUES (15,15,'berth 15');
INSERT INTO `t` VALUES (16,16,'berth 16');
INSERT INTO `t` VALUES (17,17,'berth 17');
INSERT INTO `t` VALUES (18,18,'berth 18');
INSERT INTO `t` VALUES (19,19,'berth 19');
INSERT INTO `t` VALUES (20,20,'berth 20');
INSERT INTO `t` VALUES (21,43,'berth 21');
INSERT INTO `t` VALUES (22,45,'berth 22');
INSERT INTO `t` VALUES (23,47,'berth 23');
INSERT INTO `t` VALUES (24,49,'berth 24');
INSERT INTO `t` VALUES (25,51,'berth 25');
INSERT INTO `t` VALUES (26,53,'berth 26');
INSERT INTO `t` VALUES (27,55,'berth 27');
INSERT INTO `t` VALUES (28,57,'berth 28');
INSERT INTO `t` VALUES (29,59,'berth 29');
INSERT INTO `t` VALUES (30,61,'berth 30');
INSERT INTO `t` VALUES (31,63,'berth 31');
INSERT INTO `t` VALUES (32,65,'berth 32');
INSERT INTO `t` VALUES (33,67,'berth 33');
INSERT INTO `t` VALUES (34,69,'berth 34');
INSERT INTO `t` VALUES (35,71,'berth 35');
INSERT INTO `t` VALUES (36,73,'berth 36');
INSERT INTO `t` VALUES (37,75,'berth 37');
INSERT INTO `t` VALUES (38,77,'berth 38');
INSERT INTO `t` VALUES (39,79,'berth 39');
INSERT INTO `t` VALUES (40,81,'berth 40');
INSERT INTO `t` VALUES (41,83,'berth 41');
INSERT INTO `t` VALUES (42,85,'berth 42');
INSERT INTO `t` VALUES (43,87,'berth 43');
INSERT INTO `t` VALUES (44,89,'berth 44');
INSERT INTO `t` VALUES (45,91,'berth 45');
INSERT INTO `t` VALUES (46,93,'berth 46');
INSERT INTO `t` VALUES (47,95,'berth 47');
INSERT INTO `t` VALUES (48,97,'berth 48');
INSERT INTO `t` VALUES (49,99,'berth 49');
INSERT INTO `t` VALUES (50,101,'berth 50');
INSERT INTO `t` VALUES (51,103,'berth 51');
INSERT INTO `t` VALUES (52,105,'berth 52');
INSERT INTO `t` VALUES (53,107,'berth 53');
INSERT INTO `t` VALUES (54,109,'berth 54');
INSERT INTO `t` VALUES (55,111,'berth 55');
INSERT INTO `t` VALUES (56,113,'berth 56');
INSERT INTO `t` VALUES (57,115,'berth 57');
INSERT INTO `t` VALUES (58,117,'berth 58');
INSERT INTO `t` VALUES (59,119,'berth 59');
INSERT INTO `t` VALUES (60,121,'berth 60');
DROP TABLE IF EXISTS `t_before`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `t_before` (
  `id` int(11) NOT NULL,
  `n` int(11) DEFAULT NULL,
  `note` varchar(40) DEFAULT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `t_before` VALUES (1,1,'berth 1');
INSERT INTO `t_before` VALUES (2,2,'berth 2');
INSERT INTO `t_before` VALUES (3,3,'berth 3');
INSERT INTO `t_before` VALUES (4,4,'berth 4');
INSERT INTO `t_before` VALUES (5,5,'berth 5');
INSERT INTO `t_before` VALUES (6,6,'berth 6');
INSERT INTO `t_before` VALUES (7,7,'berth 7');
INSERT INTO `t_before` VALUES (8,8,'berth 8');
INSERT INTO `t_before` VALUES (9,9,'berth 9');
INSERT INTO `t_before` VALUES (10,10,'berth 10');
INSERT INTO `t_before` VALUES (11,11,'berth 11');
INSERT INTO `t_before` VALUES (12,12,'berth 12');
INSERT INTO `t_before` VALUES (13,13,'berth 13');
INSERT INTO `t_before` VALUES (14,14,'berth 14');
INSERT INTO `t_before` VALUES (15,15,'berth 15');
INSERT INTO `t_before` VALUES (16,16,'berth 16');
INSERT INTO `t_before` VALUES (17,17,'berth 17');
INSERT INTO `t_before` VALUES (18,18,'berth 18');
INSERT INTO `t_before` VALUES (19,19,'berth 19');
INSERT INTO `t_before` VALUES (20,20,'berth 20');
INSERT INTO `t_before` VALUES (21,21,'berth 21');
INSERT INTO `t_before` VALUES (22,22,'berth 22');
INSERT INTO `t_before` VALUES (23,23,'berth 23');
INSERT INTO `t_before` VALUES (24,24,'berth 24');
INSERT INTO `t_before` VALUES (25,25,'berth 25');
INSERT INTO `t_before` VALUES (26,26,'berth 26');
INSERT INTO `t_before` VALUES (27,27,'berth 27');
INSERT INTO `t_before` VALUES (28,28,'berth 28');
INSERT INTO `t_before` VALUES (29,29,'berth 29');
INSERT INTO `t_before` VALUES (30,30,'berth 30');
INSERT INTO `t_before` VALUES (31,31,'berth 31');
INSERT INTO `t_before` VALUES (32,32,'berth 32');
INSERT INTO `t_before` VALUES (33,33,'berth 33');
INSERT INTO `t_before` VALUES (34,34,'berth 34');
INSERT INTO `t_before` VALUES (35,35,'berth 35');
INSERT INTO `t_before` VALUES (36,36,'berth 36');
INSERT INTO `t_before` VALUES (37,37,'berth 37');
INSERT INTO `t_before` VALUES (38,38,'berth 38');
INSERT INTO `t_before` VALUES (39,39,'berth 39');
INSERT INTO `t_before` VALUES (40,40,'berth 40');
INSERT INTO `t_before` VALUES (41,41,'berth 41');
INSERT INTO `t_before` VALUES (42,42,'berth 42');
INSERT INTO `t_before` VALUES (43,43,'berth 43');
INSERT INTO `t_before` VALUES (44,44,'berth 44');
INSERT INTO `t_before` VALUES (45,45,'berth 45');
INSERT INTO `t_before` VALUES (46,46,'berth 46');
INSERT INTO `t_before` VALUES (47,47,'berth 47');
INSERT INTO `t_before` VALUES (48,48,'berth 48');
INSERT INTO `t_before` VALUES (49,49,'berth 49');
INSERT INTO `t_before` VALUES (50,50,'berth 50');
INSERT INTO `t_before` VALUES (51,51,'berth 51');
INSERT INTO `t_before` VALUES (52,52,'berth 52');
INSERT INTO `t_before` VALUES (53,53,'berth 53');
INSERT INTO `t_before` VALUES (54,54,'berth 54');
INSERT INTO `t_before` VALUES (55,55,'berth 55');
INSERT INTO `t_before` VALUES (56,56,'berth 56');
INSERT INTO `t_before` VALUES (57,57,'berth 57');
INSERT INTO `t_before` VALUES (58,58,'berth 58');
INSERT INTO `t_before` VALUES (59,59,'berth 59');
INSERT INTO `t_before` VALUES (60,60,'berth 60');
DROP TABLE IF EXISTS `u`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `u` (
  `id` int(11) NOT NULL,
  `n` int(11) DEFAULT NULL,
  PRIMARY KEY (`id`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `u` VALUES (1,4);
INSERT INTO `u` VALUES (2,7);
INSERT INTO `u` VALUES (3,10);
INSERT INTO `u` VALUES (4,13);
INSERT INTO `u` VALUES (5,16);
INSERT INTO `u` VALUES (6,19);
INSERT INTO `u` VALUES (7,22);
INSERT INTO `u` VALUES (8,25);
INSERT INTO `u` VALUES (9,28);
INSERT INTO `u` VALUES (10,10);
INSERT INTO `u` VALUES (11,34);
INSERT INTO `u` VALUES (12,37);
INSERT INTO `u` VALUES (13,40);
INSERT INTO `u` VALUES (14,43);
INSERT INTO `u` VALUES (15,46);
INSERT INTO `u` VALUES (16,49);
INSERT INTO `u` VALUES (17,52);
INSERT INTO `u` VALUES (18,55);
INSERT INTO `u` VALUES (19,58);
INSERT INTO `u` VALUES (20,20);
INSERT INTO `u` VALUES (21,64);
INSERT INTO `u` VALUES (22,67);
INSERT INTO `u` VALUES (23,70);
INSERT INTO `u` VALUES (24,73);
INSERT INTO `u` VALUES (25,25);
INSERT INTO `u` VALUES (26,26);
INSERT INTO `u` VALUES (27,82);
INSERT INTO `u` VALUES (28,85);
INSERT INTO `u` VALUES (29,88);
INSERT INTO `u` VALUES (30,30);
INSERT INTO `u` VALUES (31,94);
INSERT INTO `u` VALUES (32,97);
INSERT INTO `u` VALUES (33,100);
INSERT INTO `u` VALUES (34,103);
INSERT INTO `u` VALUES (35,106);
INSERT INTO `u` VALUES (36,109);
INSERT INTO `u` VALUES (37,112);
INSERT INTO `u` VALUES (38,115);
INSERT INTO `u` VALUES (39,118);
INSERT INTO `u` VALUES (40,40);
INSERT INTO `u` VALUES (41,124);
INSERT INTO `u` VALUES (42,127);
INSERT INTO `u` VALUES (43,130);
INSERT INTO `u` VALUES (44,133);
INSERT INTO `u` VALUES (45,136);
INSERT INTO `u` VALUES (46,139);
INSERT INTO `u` VALUES (47,142);
INSERT INTO `u` VALUES (48,145);
INSERT INTO `u` VALUES (49,148);
INSERT INTO `u` VALUES (50,50);
INSERT INTO `u` VALUES (51,154);
INSERT INTO `u` VALUES (52,157);
INSERT INTO `u` VALUES (53,160);
INSERT INTO `u` VALUES (54,163);
INSERT INTO `u` VALUES (55,166);
INSERT INTO `u` VALUES (56,169);
INSERT INTO `u` VALUES (57,172);
INSERT INTO `u` VALUES (58,175);
INSERT INTO `u` VALUES (59,178);
INSERT INTO `u` VALUES (60,60);
DROP TABLE IF EXISTS `w`;
/*!40101 SET @saved_cs_client     = @@character_set_client */;
/*!40101 SET character_set_client = utf8mb4 */;
CREATE TABLE `w` (
  `id` int(11) NOT NULL,
  `n` int(11) DEFAULT NULL,
  PRIMARY KEY (`id`),
  CONSTRAINT `five` CHECK (`n` <> 5)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
/*!40101 SET character_set_client = @saved_cs_client */;

INSERT INTO `w` VALUES (1,2);
INSERT INTO `w` VALUES (2,3);
INSERT INTO `w` VALUES (3,4);
INSERT INTO `w` VALUES (4,4);
INSERT INTO `w` VALUES (8,9);
INSERT INTO `w` VALUES (9,7777);
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_1_1`*/;
/*!50001 SET @saved_cs_client          = @@character_set_client */;
/*!50001 SET @saved_cs_results         = @@character_set_results */;
/*!50001 SET @saved_col_connection     = @@collation_connection */;
/*!50001 SET character_set_client      = utf8mb4 */;
/*!50001 SET character_set_results     = utf8mb4 */;
/*!50001 SET collation_connection      = utf8mb4_general_ci */;
/*!50001 CREATE ALGORITHM=UNDEFINED */
/*!50013 DEFINER=`root`@`127.0.0.1` SQL SECURITY INVOKER */
/*!50001 VIEW `jugatum_kept_1_1` AS select `p`.`first` + `j`.`n` AS `seq`,if(`p`.`v` is null,`p`.`key_id`,`j`.`key_id`) AS `key_id`,if(`p`.`v` is null,`p`.`old_n`,`j`.`old_n`) AS `old_n`,if(`p`.`v` is null,`p`.`new_n`,`j`.`new_n`) AS `new_n`,`p`.`last` AS `packed_to` from (`saltmere_v4`.`jugatum_packed_1_1` `p` join JSON_TABLE(coalesce(`p`.`v`,'[[]]'), '$[*]' COLUMNS (`n` FOR ORDINALITY, `key_id` int(11) PATH '$[0]' NULL ON EMPTY ERROR ON ERROR, `old_n` int(11) PATH '$[1]' NULL ON EMPTY ERROR ON ERROR, `new_n` int(11) PATH '$[2]' NULL ON EMPTY ERROR ON ERROR)) `j`) */;
/*!50001 SET character_set_client      = @saved_cs_client */;
/*!50001 SET character_set_results     = @saved_cs_results */;
/*!50001 SET collation_connection      = @saved_col_connection */;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_2_1`*/;
/*!50001 SET @saved_cs_client          = @@character_set_client */;
/*!50001 SET @saved_cs_results         = @@character_set_results */;
/*!50001 SET @saved_col_connection     = @@collation_connection */;
/*!50001 SET character_set_client      = utf8mb4 */;
/*!50001 SET character_set_results     = utf8mb4 */;
/*!50001 SET collation_connection      = utf8mb4_general_ci */;
/*!50001 CREATE ALGORITHM=UNDEFINED */
/*!50013 DEFINER=`root`@`127.0.0.1` SQL SECURITY INVOKER */
/*!50001 VIEW `jugatum_kept_2_1` AS select `p`.`first` + `j`.`n` AS `seq`,if(`p`.`v` is null,`p`.`key_id`,`j`.`key_id`) AS `key_id`,if(`p`.`v` is null,`p`.`old_id`,`j`.`old_id`) AS `old_id`,if(`p`.`v` is null,`p`.`old_n`,`j`.`old_n`) AS `old_n`,if(`p`.`v` is null,`p`.`old_note`,`j`.`old_note`) AS `old_note`,`p`.`last` AS `packed_to` from (`saltmere_v4`.`jugatum_packed_2_1` `p` join JSON_TABLE(coalesce(`p`.`v`,'[[]]'), '$[*]' COLUMNS (`n` FOR ORDINALITY, `key_id` int(11) PATH '$[0]' NULL ON EMPTY ERROR ON ERROR, `old_id` int(11) PATH '$[1]' NULL ON EMPTY ERROR ON ERROR, `old_n` int(11) PATH '$[2]' NULL ON EMPTY ERROR ON ERROR, `old_note` varchar(40) CHARSET utf8mb4 COLLATE utf8mb4_general_ci PATH '$[3]' NULL ON EMPTY ERROR ON ERROR)) `j`) */;
/*!50001 SET character_set_client      = @saved_cs_client */;
/*!50001 SET character_set_results     = @saved_cs_results */;
/*!50001 SET collation_connection      = @saved_col_connection */;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_4_1`*/;
/*!50001 SET @saved_cs_client          = @@character_set_client */;
/*!50001 SET @saved_cs_results         = @@character_set_results */;
/*!50001 SET @saved_col_connection     = @@collation_connection */;
/*!50001 SET character_set_client      = utf8mb4 */;
/*!50001 SET character_set_results     = utf8mb4 */;
/*!50001 SET collation_connection      = utf8mb4_general_ci */;
/*!50001 CREATE ALGORITHM=UNDEFINED */
/*!50013 DEFINER=`root`@`127.0.0.1` SQL SECURITY INVOKER */
/*!50001 VIEW `jugatum_kept_4_1` AS select `p`.`first` + `j`.`n` AS `seq`,if(`p`.`v` is null,`p`.`key_id`,`j`.`key_id`) AS `key_id`,if(`p`.`v` is null,`p`.`old_n`,`j`.`old_n`) AS `old_n`,if(`p`.`v` is null,`p`.`new_n`,`j`.`new_n`) AS `new_n`,`p`.`last` AS `packed_to` from (`saltmere_v4`.`jugatum_packed_4_1` `p` join JSON_TABLE(coalesce(`p`.`v`,'[[]]'), '$[*]' COLUMNS (`n` FOR ORDINALITY, `key_id` int(11) PATH '$[0]' NULL ON EMPTY ERROR ON ERROR, `old_n` int(11) PATH '$[1]' NULL ON EMPTY ERROR ON ERROR, `new_n` int(11) PATH '$[2]' NULL ON EMPTY ERROR ON ERROR)) `j`) */;
/*!50001 SET character_set_client      = @saved_cs_client */;
/*!50001 SET character_set_results     = @saved_cs_results */;
/*!50001 SET collation_connection      = @saved_col_connection */;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_5_1`*/;
/*!50001 SET @saved_cs_client          = @@character_set_client */;
/*!50001 SET @saved_cs_results         = @@character_set_results */;
/*!50001 SET @saved_col_connection     = @@collation_connection */;
/*!50001 SET character_set_client      = utf8mb4 */;
/*!50001 SET character_set_results     = utf8mb4 */;
/*!50001 SET collation_connection      = utf8mb4_general_ci */;
/*!50001 CREATE ALGORITHM=UNDEFINED */
/*!50013 DEFINER=`root`@`127.0.0.1` SQL SECURITY INVOKER */
/*!50001 VIEW `jugatum_kept_5_1` AS select `p`.`first` + `j`.`n` AS `seq`,if(`p`.`v` is null,`p`.`key_id`,`j`.`key_id`) AS `key_id`,if(`p`.`v` is null,`p`.`old_n`,`j`.`old_n`) AS `old_n`,if(`p`.`v` is null,`p`.`new_n`,`j`.`new_n`) AS `new_n`,`p`.`last` AS `packed_to` from (`saltmere_v4`.`jugatum_packed_5_1` `p` join JSON_TABLE(coalesce(`p`.`v`,'[[]]'), '$[*]' COLUMNS (`n` FOR ORDINALITY, `key_id` int(11) PATH '$[0]' NULL ON EMPTY ERROR ON ERROR, `old_n` int(11) PATH '$[1]' NULL ON EMPTY ERROR ON ERROR, `new_n` int(11) PATH '$[2]' NULL ON EMPTY ERROR ON ERROR)) `j`) */;
/*!50001 SET character_set_client      = @saved_cs_client */;
/*!50001 SET character_set_results     = @saved_cs_results */;
/*!50001 SET collation_connection      = @saved_col_connection */;
/*!50001 DROP VIEW IF EXISTS `jugatum_kept_6_1`*/;
/*!50001 SET @saved_cs_client          = @@character_set_client */;
/*!50001 SET @saved_cs_results         = @@character_set_results */;
/*!50001 SET @saved_col_connection     = @@collation_connection */;
/*!50001 SET character_set_client      = utf8mb4 */;
/*!50001 SET character_set_results     = utf8mb4 */;
/*!50001 SET collation_connection      = utf8mb4_general_ci */;
/*!50001 CREATE ALGORITHM=UNDEFINED */
/*!50013 DEFINER=`root`@`127.0.0.1` SQL SECURITY INVOKER */
/*!50001 VIEW `jugatum_kept_6_1` AS select `p`.`first` + `j`.`n` AS `seq`,if(`p`.`v` is null,`p`.`key_id`,`j`.`key_id`) AS `key_id`,if(`p`.`v` is null,`p`.`old_n`,`j`.`old_n`) AS `old_n`,if(`p`.`v` is null,`p`.`new_n`,`j`.`new_n`) AS `new_n`,`p`.`last` AS `packed_to` from (`saltmere_v4`.`jugatum_packed_6_1` `p` join JSON_TABLE(coalesce(`p`.`v`,'[[]]'), '$[*]' COLUMNS (`n` FOR ORDINALITY, `key_id` int(11) PATH '$[0]' NULL ON EMPTY ERROR ON ERROR, `old_n` int(11) PATH '$[1]' NULL ON EMPTY ERROR ON ERROR, `new_n` int(11) PATH '$[2]' NULL ON EMPTY ERROR ON ERROR)) `j`) */;
/*!50001 SET character_set_client      = @saved_cs_client */;
/*!50001 SET character_set_results     = @saved_cs_results */;
/*!50001 SET collation_connection      = @saved_col_connection */;
/*!40103 SET TIME_ZONE=@OLD_TIME_ZONE */;

/*!40101 SET SQL_MODE=@OLD_SQL_MODE */;
/*!40014 SET FOREIGN_KEY_CHECKS=@OLD_FOREIGN_KEY_CHECKS */;
/*!40014 SET UNIQUE_CHECKS=@OLD_UNIQUE_CHECKS */;
/*!40101 SET CHARACTER_SET_CLIENT=@OLD_CHARACTER_SET_CLIENT */;
/*!40101 SET CHARACTER_SET_RESULTS=@OLD_CHARACTER_SET_RESULTS */;
/*!40101 SET COLLATION_CONNECTION=@OLD_COLLATION_CONNECTION */;
/*!40111 SET SQL_NOTES=@OLD_SQL_NOTES */;

