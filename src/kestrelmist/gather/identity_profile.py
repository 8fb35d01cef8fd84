"""What becomes of each header element: the basic application confidentiality profile of DICOM PS3.15, Annex E, Table
E.1-1.

The table is kept by keyword. Elements it does not name are judged by their kind: names of persons are emptied, dates
and identifiers treated as all others, and free text is removed unless it is known to speak of the machine or the
method.
"""

from __future__ import annotations

from dataclasses import dataclass

from .what_stays import CODES, KINDS, NAMED, NEEDS, PICTURES, TABLE, TEXTS, may_stay

REMOVE, EMPTY, DUMMY, DATE, TIME = "removed", "emptied", "replaced", "date", "time"
IDENTIFIER, KEEP, INSIDE, SUBJECT, CHECKED = "identifier", "kept", "inside", "subject", "checked"

REMOVED = frozenset(
    """
AcquisitionComments AcquisitionContextSequence AcquisitionFieldOfViewLabel AcquisitionProtocolDescription
ActualHumanPerformersSequence AdditionalPatientHistory AddressTrial AdmissionID AdmittingDiagnosesCodeSequence
AdmittingDiagnosesDescription Allergies Arbitrary AuthorObserverSequence BarcodeValue BeamDescription
BolusDescription BranchOfService CameraOwnerName CassetteID ClinicalTrialProtocolEthicsCommitteeName
ClinicalTrialSeriesDescription ClinicalTrialSeriesID ClinicalTrialTimePointDescription
CommentsOnThePerformedProcedureStep CommentsOnRadiationDose CompensatorDescription
ConceptualVolumeCombinationDescription ConceptualVolumeDescription ConfidentialityConstraintOnPatientDataDescription
ConfidentialityCode ConsultingPhysicianIdentificationSequence ContentCreatorIdentificationCodeSequence
ContributingEquipmentSequence ContributionDescription CountryOfResidence CurrentObserverTrial CurrentPatientLocation
CustodialOrganizationSequence DataSetTrailingPadding DecompositionDescription DerivationDescription DetectorID
DeviceSettingDescription DeviceLabel DeviceDescription DigitalSignatureUID DigitalSignaturesSequence
DischargeDiagnosisDescription DistributionAddress DistributionName DosimetricObjectiveUID EntityDescription
EntityLabel EntityName EntityLongLabel EquipmentFrameOfReferenceDescription
EthicsCommitteeApprovalEffectivenessStartDate EthnicGroup ExpectedCompletionDateTime FindingsGroupRecordingTimeTrial
FirstTreatmentDate FixationDeviceDescription FlowIdentifierSequence FractionationNotes FractionGroupDescription
FrameComments FrameOriginTimestamp GantryID GeneratorID GPSLatitude GPSLatitudeRef GPSLongitude GPSLongitudeRef
GPSAltitude GPSAltitudeRef GPSTimeStamp GPSSatellites GPSDateStamp HangingProtocolUserIdentificationCodeSequence
HumanPerformerName HumanPerformerOrganization IconImageSequence IdentifyingComments ImageComments
ImagePresentationComments ImagingServiceRequestComments Impressions InstanceOriginStatus InstitutionAddress
InstitutionCodeSequence InstitutionalDepartmentName InstitutionalDepartmentTypeCodeSequence InstitutionName
InstructionDescription InsurancePlanIdentification IntendedRecipientsOfResultsIdentificationSequence
InterlockDescription InterlockOriginDescription InterpretationApproverSequence InterpretationAuthor
InterpretationDiagnosisDescription InterpretationIDIssuer InterpretationRecorder InterpretationText
InterpretationTranscriber IssuerOfAdmissionID IssuerOfAdmissionIDSequence IssuerOfPatientID IssuerOfServiceEpisodeID
IssuerOfServiceEpisodeIDSequence LensMake LensModel LensSerialNumber LensSpecification LongDeviceDescription MAC
MakerNote MedicalAlerts MedicalRecordLocator MilitaryRank ModifiedAttributesSequence ModifiedImageDescription
ModifyingDeviceID MostRecentTreatmentDate MultienergyAcquisitionDescription NameOfPhysiciansReadingStudy
NamesOfIntendedRecipientsOfResults NonconformingModifiedAttributesSequence NonconformingDataElementValue
ObservationDateTrial ObservationTimeTrial Occupation OperatorIdentificationSequence OperatorsName
OriginalAttributesSequence OrderCallbackPhoneNumber OrderCallbackTelecomInformation OrderEnteredBy
OrderEntererLocation OtherPatientIDs OtherPatientIDsSequence OtherPatientNames ParticipantSequence
ParticipationDateTime PatientAddress PatientAlternativeCalendar PatientBirthDateInAlternativeCalendar
PatientBirthName PatientBirthTime PatientComments PatientDeathDateInAlternativeCalendar PatientInstitutionResidence
PatientInsurancePlanCodeSequence PatientMotherBirthName PatientPrimaryLanguageCodeSequence
PatientPrimaryLanguageModifierCodeSequence PatientReligiousPreference PatientSetupPhotoDescription
PatientTelecomInformation PatientTelephoneNumbers PatientTransportArrangements PerformedLocation
PerformedProcedureStepDescription PerformedProcedureStepID PerformedStationAETitle
PerformedStationGeographicLocationCodeSequence PerformedStationName PerformedStationNameCodeSequence
PerformingPhysicianIdentificationSequence PerformingPhysicianName PersonAddress PersonTelecomInformation
PersonTelephoneNumbers PhysicianApprovingInterpretation PhysiciansOfRecord PhysiciansOfRecordIdentificationSequence
PhysiciansReadingStudyIdentificationSequence PlateID PrescriptionDescription PrescriptionNotesSequence
PriorTreatmentDoseDescription ProcedureStepCancellationDateTime ReasonForOmissionDescription
ReasonForRequestedProcedureCodeSequence ReasonForStudy ReasonForSuperseding ReasonForTheImagingServiceRequest
ReasonForTheRequestedProcedure ReasonForVisit ReasonForVisitCodeSequence RecordedRTControlPointDateTime
PersonIdentificationCodeSequence EthnicGroupCodeSequence AcquisitionDeviceProcessingDescription
ReferencedStudySequence ReferencedPerformedProcedureStepSequence
ReferencedDigitalSignatureSequence ReferencedPatientAliasSequence ReferencedPatientPhotoSequence
ReferencedPatientSequence ReferencedSOPInstanceMACSequence ReferringPhysicianAddress
ReferringPhysicianIdentificationSequence ReferringPhysicianTelephoneNumbers RegionOfResidence
RequestAttributesSequence RequestedContrastAgent RequestedProcedureComments RequestedProcedureDescription
RequestedProcedureID RequestedProcedureLocation RequestedSeriesDescription RequestingPhysician
RequestingPhysicianIdentificationSequence RequestingService ResponsibleOrganization ResponsiblePerson
ResultsComments ResultsDistributionListSequence ResultsIDIssuer RTAccessoryDeviceSlotID RTPhysicianIntentNarrative
RTPlanDescription RTPlanLabel RTPlanName RTPrescriptionLabel ScheduledHumanPerformersSequence
ScheduledPatientInstitutionResidence ScheduledPerformingPhysicianIdentificationSequence
ScheduledPerformingPhysicianName ScheduledProcedureStepDescription ScheduledProcedureStepID
ScheduledProcedureStepLocation ScheduledStationAETitle ScheduledStationGeographicLocationCodeSequence
ScheduledStationName ScheduledStationNameCodeSequence ScheduledStudyLocation ScheduledStudyLocationAETitle
ServiceEpisodeDescription ServiceEpisodeID SetupTechniqueDescription ShieldingDeviceDescription SlideIdentifier
SourceIdentifier SpecialNeeds SpecimenAccessionNumber SpecimenDetailedDescription SpecimenPreparationSequence
SpecimenShortDescription StructureSetDescription StudyComments StudyDescription StudyIDIssuer TargetUID
TelephoneNumberTrial TextComments TextString TimezoneOffsetFromUTC TopicAuthor TopicKeywords TopicSubject TopicTitle
TreatmentSites TreatmentTechniqueNotes UDISequence UniqueDeviceIdentifier UserContentLabel UserContentLongLabel
VerbalSourceTrial VerbalSourceIdentifierCodeSequenceTrial VerifyingObserverIdentificationCodeSequence
VerifyingObserverSequence VerifyingOrganization VisitComments XRayDetectorID XRaySourceID XRayDetectorLabel
""".split()
)
EMPTIED = frozenset(
    """
AccessionNumber ContainerComponentID ContentCreatorName ConsultingPhysicianName
FillerOrderNumberImagingServiceRequest FillerOrderNumberImagingServiceRequestRetired GraphicAnnotationSequence
IssuerOfTheContainerIdentifierSequence IssuerOfTheSpecimenIdentifierSequence PatientBirthDate
PlacerOrderNumberImagingServiceRequest PlacerOrderNumberImagingServiceRequestRetired ReferringPhysicianName
ReviewerName StudyID ClinicalTrialCoordinatingCenterName ClinicalTrialSiteID ClinicalTrialSiteName
ClinicalTrialSubjectID ClinicalTrialSubjectReadingID ClinicalTrialTimePointID
""".split()
)
DUMMIES = frozenset(
    """
ContainerIdentifier SpecimenIdentifier ClinicalTrialProtocolID ClinicalTrialProtocolName ClinicalTrialSponsorName
PersonName VerifyingObserverName ContrastBolusAgent ProtocolName StructureSetLabel
StructureSetName RTPlanLabel InterlockDateTime DoseReferenceDescription
""".split()
)
CHARACTERISTICS = frozenset(
    """
EthnicGroup PatientAge PatientSexNeutered PatientSex PatientSize PatientSizeCodeSequence PatientWeight PatientState
PregnancyStatus PreMedication SmokingStatus SpecialNeeds Allergies PatientBodyMassIndex MeasuredAPDimension
MeasuredLateralDimension ExaminedBodyThickness StrainCodeSequence StrainStockSequence GeneticModificationsSequence
PatientSpeciesDescription PatientBreedDescription
""".split()
)
"""Kept with the option for characteristics; without it the sex is emptied and the others removed."""
DEVICE = frozenset(
    """
CassetteID DetectorID DeviceSerialNumber DeviceUID GantryID GeneratorID ManufacturerDeviceIdentifier
PerformedStationName PerformedStationNameCodeSequence PlateID ScheduledStationName ScheduledStationNameCodeSequence
SourceManufacturer SourceSerialNumber StationName UniqueDeviceIdentifier UDISequence XRayDetectorID XRaySourceID
LensMake LensModel LensSerialNumber LensSpecification DateOfLastCalibration TimeOfLastCalibration
DateOfLastDetectorCalibration TimeOfLastDetectorCalibration DeviceLabel DeviceDescription LongDeviceDescription
""".split()
)
"""Kept with the option for the device; removed without."""
DESCRIPTIONS = frozenset(
    """
SeriesDescription ProtocolName StudyDescription PerformedProcedureStepDescription AcquisitionProtocolDescription
DerivationDescription ImageComments
""".split()
)
"""Kept with the option for descriptions, words of identity taken out; removed without."""
SUBJECTS = frozenset(("PatientName", "PatientID"))
SAFE = frozenset(
    """
Manufacturer ManufacturerModelName ManufacturerRelatedModelGroup SoftwareVersions CodeValue ExtendedCodeValue
LongCodeValue CodeMeaning ExtendedCodeMeaning CodingSchemeDesignator CodingSchemeVersion CodingSchemeRegistry
CodingSchemeName DeidentificationMethod SequenceName
PulseSequenceName Radiopharmaceutical ImagedNucleus ResonantNucleus ContrastBolusRoute TriggerSourceOrType
CardiacFramingType RadiopharmaceuticalRoute PVCRejection FilterType TypeOfFilters FilterMaterial AcquisitionMode
ConvolutionKernel ReceiveCoilName TransmitCoilName ReceiveCoilManufacturerName TransmitCoilManufacturerName
MultiCoilElementName MultiCoilConfiguration PlateType PhosphorType AcquisitionDeviceProcessingCode
TransducerData TransducerType ProcessingFunction DetectorMode
GridAbsorbingMaterial GridSpacingMaterial ASLBolusCutoffTechnique ImageFilter ApplicationVersion ApplicationName
PositionReferenceIndicator StackID RescaleType WindowCenterWidthExplanation LUTExplanation LUTLabel ModalityLUTType
MaskOperationExplanation ChannelLabel AttenuationCorrectionMethod ReconstructionMethod ReconstructionAlgorithm
DetectorLinesOfResponseUsed ScatterCorrectionMethod RandomsCorrectionMethod HistogramExplanation SegmentLabel
SegmentDescription SegmentAlgorithmName AlgorithmName AlgorithmVersion AlgorithmSource AlgorithmParameters
PixelValueMappingExplanation DimensionDescriptionLabel LocationOfMeasuredBeamDiameter
EXIFVersion OpticalPathDescription OpticalPathIdentifier FunctionalGroupPrivateCreator DimensionIndexPrivateCreator
ContrastBolusIngredient
""".split()
)
"""Free text that speaks of the machine, the method or the kind of thing. Its value is looked at: it stays when it means
something by itself, or with the options that keep it; all other free text is removed."""
MACHINE = frozenset(
    """
Manufacturer ManufacturerModelName ManufacturerRelatedModelGroup SoftwareVersions ReceiveCoilName TransmitCoilName
ReceiveCoilManufacturerName TransmitCoilManufacturerName MultiCoilElementName MultiCoilConfiguration ApplicationVersion
ApplicationName TransducerData PlateType PhosphorType
""".split()
)
"""Of these, what is kept with the option for the device."""
CODE_PARTS = frozenset(
    """
CodeValue LongCodeValue URNCodeValue CodingSchemeDesignator CodeMeaning CodingSchemeVersion
""".split()
)
"""Parts of a code, which is looked at as a whole."""
NEEDED = frozenset(("SegmentLabel", "ROIName", "SegmentAlgorithmName", "AlgorithmName", "AlgorithmVersion"))
"""Text that a reader needs to be there: it gets other words."""
PIXELS = 0x7FE0
"""The group of pixels and of what tells where each picture begins."""
BYTES = ("OB", "OW", "OF", "OD", "OL", "OV")
TABLES = frozenset(
    """
RedPaletteColorLookupTableData GreenPaletteColorLookupTableData BluePaletteColorLookupTableData
AlphaPaletteColorLookupTableData LUTData SpectroscopyData
""".split()
)
"""Bytes that a picture may need; they are looked at, and all other bytes go."""
VALUED = ("CS", "DS", "IS", "AS", "US", "SS", "UL", "SL", "SV", "UV", "FL", "FD", "AT")
"""Kinds whose value is looked at: terms, numbers and ages."""
FREE_TEXT = ("LO", "SH", "ST", "LT", "UT", "UC", "UR")

SAFE_PRIVATE = {
    ("PHILIPS PET PRIVATE GROUP", 0x7053, 0x00),
    ("PHILIPS PET PRIVATE GROUP", 0x7053, 0x09),
    ("ELSCINT1", 0x00E1, 0x21),
    ("ELSCINT1", 0x01E1, 0x26),
    ("ELSCINT1", 0x01F1, 0x01),
    ("ELSCINT1", 0x01F1, 0x07),
    ("PHILIPS IMAGING DD 001", 0x2001, 0x03),
    ("PHILIPS IMAGING DD 001", 0x2001, 0x04),
    ("PHILIPS MR IMAGING DD 001", 0x2005, 0x0D),
    ("PHILIPS MR IMAGING DD 001", 0x2005, 0x0E),
    ("GEMS_PARM_01", 0x0043, 0x27),
    ("GEMS_PARM_01", 0x0043, 0x6F),
    ("GEMS_ACQU_01", 0x0019, 0x23),
    ("GEMS_ACQU_01", 0x0019, 0x24),
    ("GEMS_ACQU_01", 0x0019, 0x27),
    ("GEMS_ACQU_01", 0x0019, 0x9E),
    ("GEMS_RELA_01", 0x0021, 0x5C),
    ("SIEMENS MED NM", 0x0009, 0x10),
    ("SIEMENS MR HEADER", 0x0019, 0x0A),
    ("SIEMENS MR HEADER", 0x0019, 0x0C),
    ("SIEMENS MR HEADER", 0x0019, 0x0D),
    ("SIEMENS MR HEADER", 0x0019, 0x0E),
    ("SIEMENS MR HEADER", 0x0019, 0x27),
    ("SIEMENS MR HEADER", 0x0019, 0x28),
    ("SIEMENS MR HEADER", 0x0019, 0x29),
    ("HOLLOWMERE MR HEADER", 0x0019, 0x0A),
    ("HOLLOWMERE MR HEADER", 0x0019, 0x28),
    ("HOLLOWMERE MR HEADER", 0x0019, 0x29),
}
"""Creator, group and last byte of private elements that hold numbers of the acquisition and nothing else (PS3.15 Table
E.3.10-1, and slice timing, diffusion and echo spacing)."""


KNOWN_CREATORS = frozenset(creator for creator, _, _ in SAFE_PRIVATE)
"""Makers' words that may be told."""


@dataclass(frozen=True)
class Rules:
    """The options of the profile.

    Parameters
    ----------
    dates : "remove" or "shift"
        Remove dates, or move all of a subject by the same number of days. Times of the day become times since the
        series began when dates are removed, and stay when they are shifted.
    characteristics, device, descriptions, safe_private : bool
        What else is kept: sex, age, weight and size; the machine; descriptions, cleaned; private elements known to be
        safe.
    """

    dates: str = "remove"
    characteristics: bool = False
    device: bool = False
    descriptions: bool = False
    safe_private: bool = True

    def action(self, element) -> str:
        """What becomes of a standard element: one of the words above."""
        keyword, vr = element.keyword, element.VR
        if keyword in SUBJECTS:
            return SUBJECT
        if keyword in CHARACTERISTICS and not self.characteristics:
            return EMPTY if keyword == "PatientSex" else REMOVE
        if keyword in DEVICE and not self.device:
            return REMOVE
        wanted = keyword in CHARACTERISTICS or keyword in DEVICE
        if keyword in DESCRIPTIONS:
            return DUMMY if self.descriptions else REMOVE
        if not wanted:
            if keyword in REMOVED:
                return REMOVE
            if keyword in EMPTIED:
                return EMPTY
            if keyword in DUMMIES:
                return DUMMY if vr in (*FREE_TEXT, "PN") else REMOVE
            if not may_stay(element.tag, keyword):
                return REMOVE
        if vr in FREE_TEXT:
            if wanted or keyword in CODE_PARTS:
                return KEEP
            return CHECKED if keyword in SAFE or keyword in NEEDED else REMOVE
        return self._by_kind(element)

    def _by_kind(self, element) -> str:
        keyword, vr = element.keyword, element.VR
        if vr in BYTES:  # a document, a drawing or a look-up table may be packed into them
            return KEEP if element.tag.group == PIXELS else CHECKED if keyword in TABLES else REMOVE
        kinds = {"UI": IDENTIFIER, "SQ": INSIDE, "DA": DATE, "DT": DATE, "TM": TIME, "PN": EMPTY}
        # the title of a program, an element nobody knows
        return REMOVE if vr not in VALUED and vr not in kinds else kinds.get(vr, CHECKED)

    def reason(self, element) -> str:
        """Why a standard element may stay, in words; "" when it does not."""
        action, keyword, vr = self.action(element), element.keyword, element.VR
        if action in (REMOVE, EMPTY):
            return ""
        if action == SUBJECT:
            return NAMED
        if action == DUMMY or keyword in NEEDED:
            return NEEDS
        if keyword in CODE_PARTS:
            return CODES
        if vr in BYTES:
            return TABLE if keyword in TABLES else PICTURES
        return TEXTS if vr in FREE_TEXT else KINDS[vr]

    def keeps_text(self, keyword: str) -> bool:
        """Whether an option keeps a text of this element although its value says nothing by itself."""
        return self.descriptions or (self.device and keyword in MACHINE)

    def private_action(self, creator: str, tag) -> str:
        """What becomes of a private element."""
        return KEEP if self.safe_private and (creator, tag.group, tag.element & 0xFF) in SAFE_PRIVATE else REMOVE

    @property
    def codes(self) -> list[tuple[str, str]]:
        """Codes of the profile and its options (PS3.16 context group 7050)."""
        found = [("113100", "Basic Application Confidentiality Profile")]
        if self.dates == "shift":
            found.append(("113107", "Retain Longitudinal Temporal Information Modified Dates Option"))
        if self.characteristics:
            found.append(("113108", "Retain Patient Characteristics Option"))
        if self.device:
            found.append(("113109", "Retain Device Identity Option"))
        if self.descriptions:
            found.append(("113105", "Clean Descriptors Option"))
        if self.safe_private:
            found.append(("113111", "Retain Safe Private Option"))
        return found
